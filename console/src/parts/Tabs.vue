<script setup lang="ts">
import Button from 'primevue/button'
/** A row of choices, one of which is taken; each may carry a number. */
defineProps<{ label: string; tabs: { name: string; title: string; count?: number }[] }>()
const chosen = defineModel<string>({ required: true })
</script>

<template>
  <div class="tabs" role="group" :aria-label="label">
    <Button
      v-for="t in tabs"
      :key="t.name"
      unstyled
      type="button"
      :aria-pressed="chosen === t.name"
      @click="chosen = t.name"
    >
      {{ t.title }} {{ t.count ?? '' }}
    </Button>
  </div>
</template>

<style scoped>
.tabs {
  display: flex;
  flex-wrap: wrap;
  gap: 0 1rem;
  margin: 0.5rem 0 0.4rem;
}

button {
  font: inherit;
  font-size: 12.5px;
  border: 0;
  border-bottom: 2px solid transparent;
  background: none;
  color: var(--faint);
  padding: 0.15rem 0;
  cursor: pointer;
}

button[aria-pressed='true'] {
  color: var(--ink);
  border-color: var(--ink);
}
</style>
