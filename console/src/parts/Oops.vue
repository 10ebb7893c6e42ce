<script setup lang="ts">
import Button from 'primevue/button'
import Message from 'primevue/message'
import { computed, nextTick, ref, watch } from 'vue'

import { Problem } from '../api/client'

/** Says what went wrong, and offers to try again. Where somebody else has changed what is
 * edited, what was typed stays, and can be put over it all the same. */
const props = defineProps<{ error: Error | null; again?: () => unknown; over?: (tag: string) => unknown }>()
const stale = computed(() =>
  props.error instanceof Problem && props.error.status === 412 ? props.error.etag : '',
)
const box = ref<HTMLElement>()
watch(
  () => props.error,
  async () => {
    await nextTick()
    box.value?.scrollIntoView({ block: 'nearest' })
  },
)
</script>

<template>
  <div v-if="error" ref="box">
    <Message
      severity="error"
      class="oops"
      :pt="{ content: { class: 'oops-content' }, text: { class: 'oops-text' } }"
      ><span>▲ {{ error.message }}</span>
      <Button v-if="over && stale" unstyled type="button" @click="over(stale)">{{
        $t('parts.saveMineAllSame')
      }}</Button>
      <Button v-if="again" unstyled type="button" @click="again()">{{
        $t('parts.tryAgain')
      }}</Button></Message
    >
  </div>
</template>

<style scoped>
.oops {
  margin: 0.6rem 0;
  border-inline-start: 3px solid var(--signal);
  background: var(--signal-wash);
  color: var(--signal);
  outline: 0;
  border-radius: 0;
}

.oops :deep(.oops-content) {
  padding: 0.6rem 0.9rem;
}

.oops :deep(.oops-text) {
  display: flex;
  flex: 1;
  gap: 1rem;
  justify-content: space-between;
  white-space: pre-line;
  font: inherit;
}

button {
  font: inherit;
  color: inherit;
  background: none;
  border: 0;
  text-decoration: underline;
  cursor: pointer;
  white-space: nowrap;
}
</style>
