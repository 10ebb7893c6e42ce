<script setup lang="ts">
import ChoiceField from './form/ChoiceField.vue'

/** How far back a list goes, in hours; 0 for everything. */
const hours = defineModel<number>({ required: true })
</script>

<template>
  <ChoiceField
    v-model="hours"
    hidden
    :label="$t('events.since')"
    :options="[
      { value: 0, label: $t('events.atAnyTime') },
      { value: 1, label: $t('events.inLastHour') },
      { value: 24, label: $t('events.inLastDay') },
      { value: 168, label: $t('events.inLastWeek') },
    ]"
  />
</template>
