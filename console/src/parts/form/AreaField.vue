<script setup lang="ts">
import Textarea from 'primevue/textarea'

import Field from './Field.vue'
import { type FieldProps, useField } from './form'

/** Several lines of text. */
const props = defineProps<FieldProps & { rows?: number; placeholder?: string; code?: boolean }>()
const text = defineModel<string>()
const { id, frame, aria, disabled, invalid } = useField(props)
</script>

<template>
  <Field v-bind="frame">
    <Textarea
      :id="id"
      v-model="text"
      v-bind="aria"
      :rows="rows ?? 3"
      :class="{ code }"
      :placeholder="placeholder"
      :spellcheck="code ? false : undefined"
      :required="required"
      :disabled="disabled"
      :invalid="invalid"
    />
    <template v-if="$slots.help" #help><slot name="help" /></template>
  </Field>
</template>

<style scoped>
.code {
  font-family: var(--mono);
}
</style>
