<script setup lang="ts">
import Button from 'primevue/button'
import { ref } from 'vue'

import Oops from '../parts/Oops.vue'
import { me } from './may'
import { lookAsMyself, showNames } from './seen'

/** Says, on every page, that names are hidden, or that somebody looks as somebody else does. */
const trouble = ref<Error | null>(null)
const busy = ref(false)
async function end(what: () => Promise<unknown>) {
  busy.value = true
  trouble.value = null
  try {
    await what()
  } catch (e) {
    trouble.value = e as Error
    busy.value = false
  }
}
</script>

<template>
  <p v-if="me?.viewing" class="seen" role="status">
    <span>{{ $t('shell.youLookAs', { name: me.viewing.name }) }}</span>
    <Button
      size="small"
      variant="outlined"
      :label="$t('shell.lookAsMyself')"
      :loading="busy"
      @click="end(lookAsMyself)"
    />
  </p>
  <p v-if="me?.namesHidden" class="seen" role="status">
    <span>{{ me.seesNames ? $t('shell.namesAreHidden') : $t('shell.namesAreHiddenForRole') }}</span>
    <Button
      v-if="me.seesNames"
      size="small"
      variant="outlined"
      :label="$t('shell.showNames')"
      :loading="busy"
      @click="end(showNames)"
    />
  </p>
  <Oops :error="trouble" />
</template>

<style scoped>
.seen {
  display: flex;
  align-items: center;
  gap: 1rem;
  margin: 0;
  padding: 0.35rem 1.5rem;
  background: var(--ink);
  color: var(--sheet);
}

.seen :deep(button) {
  color: var(--sheet);
  border-color: var(--sheet);
}
</style>
