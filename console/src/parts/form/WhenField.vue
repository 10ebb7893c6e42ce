<script setup lang="ts">
import DatePicker from 'primevue/datepicker'
import InputText from 'primevue/inputtext'
import { computed, ref, watch } from 'vue'

import { $t } from '../../texts'
import Field from './Field.vue'
import { type FieldProps, useField } from './form'
import { datePattern, dateText, fromDate, type Precision, timeOf } from './moment'

/** A date, a time of day, or both, in the reader's own zone; the model is text: 2027-09-01, 06:30 or
 * 2027-09-01T06:30, empty for none. A date is written as the reader's language does. */
const props = defineProps<FieldProps & { of: Precision; placeholder?: string }>()
const text = defineModel<string>()
const { id, frame, aria, disabled, invalid } = useField(props)

// Half of both is no moment yet, but is kept on the page.
const date = ref('')
const time = ref('')
const wrong = ref('')
watch(
  text,
  (t = '') => {
    if (t === written()) return
    date.value = /^\d{4}-\d{2}-\d{2}/.exec(t)?.[0] ?? ''
    time.value = /\d{2}:\d{2}$/.exec(t)?.[0] ?? ''
    wrong.value = ''
  },
  { immediate: true },
)
function written() {
  if (props.of === 'date') return date.value
  if (props.of === 'time') return time.value
  return date.value && time.value ? `${date.value}T${time.value}` : ''
}
const day = computed({
  get: () => fromDate(date.value),
  set: (d: Date | null) => {
    date.value = d instanceof Date ? dateText(d) : ''
    if (props.of === 'date-time' && date.value && !time.value) time.value = '00:00'
    text.value = written()
  },
})
function takeTime(typed: string) {
  const t = timeOf(typed)
  wrong.value = t === undefined ? $t('form.isNoTimeOfDay', { typed }) : ''
  time.value = t ?? ''
  text.value = written()
}
</script>

<template>
  <Field v-bind="frame" :problem="frame.problem || wrong">
    <span class="when">
      <DatePicker
        v-if="of !== 'time'"
        v-model="day"
        :input-id="id"
        :pt="{ pcInputText: { root: aria } }"
        :date-format="datePattern()"
        show-icon
        :show-on-focus="false"
        icon-display="input"
        show-button-bar
        :placeholder="placeholder"
        :required="required"
        :disabled="disabled"
        :invalid="invalid"
      />
      <InputText
        v-if="of !== 'date'"
        :id="of === 'time' ? id : `${id}-time`"
        class="time"
        :model-value="time"
        v-bind="of === 'time' ? aria : { 'aria-label': $t('form.timeOfDay', { label }) }"
        :placeholder="placeholder ?? '--:--'"
        autocomplete="off"
        :disabled="disabled"
        :invalid="invalid || !!wrong"
        @change="takeTime(($event.target as HTMLInputElement).value)"
      />
    </span>
    <template v-if="$slots.help" #help><slot name="help" /></template>
  </Field>
</template>

<style scoped>
.when {
  display: inline-flex;
  gap: 0.4rem;
}

.time {
  width: 5.5rem;
}
</style>
