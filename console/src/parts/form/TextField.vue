<script setup lang="ts">
import InputText from 'primevue/inputtext'

import Field from './Field.vue'
import { type FieldProps, useField } from './form'

/** A line of text. */
const props = defineProps<
  FieldProps & {
    placeholder?: string
    type?: 'text' | 'email' | 'url' | 'search' | 'password' | 'color'
    autocomplete?: string
    autofocus?: boolean
    maxlength?: number | string
    /** For what is read by machines: fixed width, nothing corrected. */
    code?: boolean
    /** Is told when it has been typed, and not with every letter. */
    lazy?: boolean
  }
>()
const text = defineModel<string>()
const { id, frame, aria, disabled, invalid } = useField(props)
</script>

<template>
  <Field v-bind="frame">
    <InputText
      :id="id"
      :model-value="text"
      v-bind="aria"
      :type="type ?? 'text'"
      :class="{ code }"
      :placeholder="placeholder"
      :autocomplete="autocomplete ?? 'off'"
      :autofocus="autofocus"
      :maxlength="maxlength"
      :spellcheck="code ? false : undefined"
      :required="required"
      :disabled="disabled"
      :invalid="invalid"
      @update:model-value="(typed) => !lazy && (text = typed)"
      @change="lazy && (text = ($event.target as HTMLInputElement).value)"
    />
    <template v-if="$slots.help" #help><slot name="help" /></template>
  </Field>
</template>

<style scoped>
.code {
  font-family: var(--mono);
}
</style>
