<script setup lang="ts">
import InputText from 'primevue/inputtext'

/** Asks for what a service wants to know of classes and the register does not say. */
defineProps<{ missing: string[] }>()
const details = defineModel<Record<string, string>>({ required: true })
const words: Record<string, string> = {
  level: 'Level',
  subject: 'Subject',
  starts: 'First day (2027-09-01)',
  ends: 'Last day (2027-12-18)',
}
</script>

<template>
  <div class="details">
    <div v-for="m in missing" :key="m" class="field">
      <label :for="`detail-${m}`">{{ words[m] ?? m }}</label>
      <InputText
        :id="`detail-${m}`"
        size="small"
        :model-value="details[m]"
        @change="details = { ...details, [m]: ($event.target as HTMLInputElement).value }"
      />
    </div>
  </div>
</template>

<style scoped>
.details {
  display: flex;
  flex-wrap: wrap;
  gap: 1rem;
}
</style>
