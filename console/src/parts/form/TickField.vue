<script setup lang="ts">
import Checkbox from 'primevue/checkbox'

import { type FieldProps, useField } from './form'

/** Yes or no. Longer words than the label's go into the slot. */
const props = defineProps<FieldProps & { indeterminate?: boolean }>()
const on = defineModel<boolean>()
const { id, aria, disabled, frame } = useField(props)
</script>

<template>
  <div :class="['tick', { bare: hidden }]">
    <Checkbox
      v-model="on"
      binary
      :input-id="id"
      :aria-label="aria['aria-label']"
      :indeterminate="indeterminate"
      :pt="{ input: { 'aria-describedby': aria['aria-describedby'] } }"
      :disabled="disabled"
    />
    <label v-if="!hidden" :for="id"
      ><slot>{{ label }}</slot></label
    >
    <small v-if="help || frame.problem" :id="`${id}-about`" :class="{ problem: frame.problem }">{{
      frame.problem || help
    }}</small>
  </div>
</template>

<style scoped>
.tick {
  display: flex;
  align-items: center;
  gap: 0.45rem;
  margin: 0.2rem 0;
}

.tick.bare {
  display: inline-flex;
  margin: 0;
  vertical-align: middle;
}

small {
  color: var(--faint);
}

.problem {
  color: var(--signal);
}
</style>
