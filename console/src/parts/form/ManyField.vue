<script setup lang="ts" generic="T">
import MultiSelect from 'primevue/multiselect'
import { computed } from 'vue'

import Field from './Field.vue'
import { type FieldProps, useField } from './form'

/** Any number of a list, in the list's order. */
const props = defineProps<
  FieldProps & {
    options: readonly { value: T; label: string; apart?: string }[]
    placeholder?: string
    none?: string
  }
>()
const chosen = defineModel<T[]>({ default: () => [] })
const { id, frame, disabled, invalid } = useField(props)
const options = computed(() => props.options.map((o, at) => ({ ...o, at })))
// What was chosen and is not in the list stays chosen.
const at = computed({
  get: () => props.options.flatMap((o, i) => (chosen.value.includes(o.value) ? [i] : [])),
  set: (list: number[]) => {
    const unlisted = chosen.value.filter((v) => !props.options.some((o) => o.value === v))
    chosen.value = [...unlisted, ...[...list].sort((a, b) => a - b).map((i) => props.options[i]!.value)]
  },
})
</script>

<template>
  <Field v-bind="frame">
    <MultiSelect
      v-model="at"
      :input-id="id"
      :aria-label="label"
      :options="options"
      option-value="at"
      option-label="label"
      display="comma"
      :max-selected-labels="3"
      :show-toggle-all="false"
      :filter="options.length > 12"
      :filter-placeholder="$t('form.find')"
      reset-filter-on-hide
      auto-filter-focus
      :placeholder="placeholder ?? $t('form.none')"
      :empty-message="none ?? $t('form.nothingToChooseFrom')"
      :empty-filter-message="$t('common.nothingFits')"
      :disabled="disabled"
      :invalid="invalid"
    />
    <template v-if="$slots.help" #help><slot name="help" /></template>
  </Field>
</template>
