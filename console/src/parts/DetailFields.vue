<script setup lang="ts">
import { $t } from '../texts'
import TextField from './form/TextField.vue'

/** Asks for what a service wants to know of classes and the register does not say. */
defineProps<{ missing: string[] }>()
const details = defineModel<Record<string, string>>({ required: true })
const words: Record<string, string> = {
  level: $t('parts.level'),
  subject: $t('parts.subject'),
  starts: $t('parts.firstDay'),
  ends: $t('parts.lastDay'),
}
</script>

<template>
  <div class="details">
    <TextField
      v-for="m in missing"
      :id="`detail-${m}`"
      :key="m"
      :label="words[m] ?? m"
      :model-value="details[m]"
      lazy
      @update:model-value="(text) => (details = { ...details, [m]: text ?? '' })"
    />
  </div>
</template>

<style scoped>
.details {
  display: flex;
  flex-wrap: wrap;
  gap: 1rem;
}
</style>
