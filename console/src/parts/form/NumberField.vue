<script setup lang="ts">
import InputNumber from 'primevue/inputnumber'
import { ref, watch } from 'vue'

import Field from './Field.vue'
import { type FieldProps, useField } from './form'

/** A number; undefined when empty. */
const props = defineProps<
  FieldProps & {
    min?: number
    max?: number
    /** How many digits may follow the point. */
    digits?: number
    placeholder?: string
    suffix?: string
  }
>()
const number = defineModel<number>()
const { id, frame, aria, disabled, invalid } = useField(props)
// What is shown is kept apart: while it is being typed nothing may write into it.
const shown = ref(number.value ?? null)
watch(number, (n) => (shown.value = n ?? null))
function take(value: unknown) {
  number.value = typeof value === 'number' ? value : undefined
}
</script>

<template>
  <Field v-bind="frame">
    <InputNumber
      v-model="shown"
      :input-id="id"
      :aria-label="aria['aria-label']"
      :pt="{ pcInputText: { root: aria } }"
      :min="min"
      :max="max"
      :max-fraction-digits="digits ?? 0"
      :use-grouping="false"
      :placeholder="placeholder"
      :suffix="suffix"
      :required="required"
      :disabled="disabled"
      :invalid="invalid"
      fluid
      @input="take($event.value)"
    />
    <template v-if="$slots.help" #help><slot name="help" /></template>
  </Field>
</template>
