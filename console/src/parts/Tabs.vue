<script setup lang="ts">
import SelectButton from 'primevue/selectbutton'

/** A row of choices, one of which is taken; each may carry a number. */
defineProps<{ label: string; tabs: { name: string; title: string; count?: number }[] }>()
const chosen = defineModel<string>({ required: true })
</script>

<template>
  <SelectButton
    v-model="chosen"
    class="tabs"
    :options="tabs"
    option-value="name"
    option-label="title"
    data-key="name"
    :allow-empty="false"
    :aria-label="label"
  >
    <template #option="{ option }">{{ option.title }} {{ option.count?.toLocaleString() ?? '' }}</template>
  </SelectButton>
</template>

<style scoped>
.tabs {
  display: flex;
  flex-wrap: wrap;
  gap: 0 1rem;
  margin: 0.5rem 0 0.4rem;
  border-radius: 0;
}

.tabs :deep(.p-togglebutton) {
  font-size: 12.5px;
  border: 0;
  border-bottom: 2px solid transparent;
  border-radius: 0;
  background: none;
  color: var(--faint);
  padding: 0.15rem 0;
}

.tabs :deep(.p-togglebutton .p-togglebutton-content) {
  padding: 0;
  background: none;
  box-shadow: none;
}

.tabs :deep(.p-togglebutton:hover) {
  color: var(--ink);
}

.tabs :deep(.p-togglebutton-checked) {
  color: var(--ink);
  border-bottom-color: var(--ink);
}
</style>
