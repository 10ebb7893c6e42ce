<script setup lang="ts">
import { nextTick, ref, watch } from 'vue'

/** Says what went wrong, and offers to try again. */
const props = defineProps<{ error: Error | null; again?: () => unknown }>()
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
  <div v-if="error" ref="box" class="oops" role="alert">
    <span>▲ {{ error.message }}</span>
    <button v-if="again" type="button" @click="again()">Try again</button>
  </div>
</template>

<style scoped>
.oops {
  border-left: 3px solid var(--signal);
  background: var(--signal-wash);
  color: var(--signal);
  padding: 0.6rem 0.9rem;
  margin: 0.6rem 0;
  display: flex;
  gap: 1rem;
  justify-content: space-between;
  white-space: pre-line;
}

button {
  font: inherit;
  color: inherit;
  background: none;
  border: 0;
  text-decoration: underline;
  cursor: pointer;
}
</style>
