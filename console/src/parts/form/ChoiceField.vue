<script setup lang="ts" generic="T">
import Select from 'primevue/select'
import { computed } from 'vue'

import Field from './Field.vue'
import { type FieldProps, useField } from './form'

/** One of a list. What is not in the list, or no longer, is shown as nothing and stays until
 * somebody chooses: nothing is ever chosen by itself. */
const props = defineProps<
  FieldProps & {
    options: readonly { value: T; label: string; apart?: string }[]
    placeholder?: string
    /** What to say when the list is empty. */
    none?: string
    /** Offers to choose nothing again. */
    clear?: boolean
  }
>()
const chosen = defineModel<T>()
const { id, frame, aria, disabled, invalid } = useField(props)
const options = computed(() => props.options.map((o, at) => ({ ...o, at })))
const at = computed({
  get: () => {
    const i = props.options.findIndex((o) => o.value === chosen.value)
    return i < 0 ? null : i
  },
  set: (i) => (chosen.value = i === null ? undefined : props.options[i]!.value),
})
</script>

<template>
  <Field v-bind="frame">
    <Select
      v-model="at"
      :input-id="id"
      :aria-label="hidden ? label : undefined"
      :aria-labelledby="hidden ? undefined : `${id}-label`"
      :pt="{ label: { 'aria-describedby': aria['aria-describedby'], 'aria-invalid': aria['aria-invalid'] } }"
      :options="options"
      option-value="at"
      option-label="label"
      :filter="options.length > 12"
      :filter-placeholder="$t('form.find')"
      reset-filter-on-hide
      auto-filter-focus
      :placeholder="placeholder ?? $t('form.choose')"
      :empty-message="none ?? $t('form.nothingToChooseFrom')"
      :empty-filter-message="$t('common.nothingFits')"
      :show-clear="clear"
      :disabled="disabled"
      :invalid="invalid"
    >
      <template #option="{ option }"
        ><span
          >{{ option.label }} <span v-if="option.apart" class="faint">{{ option.apart }}</span></span
        ></template
      >
    </Select>
    <template v-if="$slots.help" #help><slot name="help" /></template>
  </Field>
</template>
