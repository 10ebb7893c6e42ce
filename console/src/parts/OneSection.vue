<script setup lang="ts">
import { computed } from 'vue'

import SectionPick from './SectionPick.vue'

/** Chooses one section: the last that was chosen. The model is its id, empty for none. */
defineProps<{ inputId?: string; label?: string }>()
const id = defineModel<string>({ default: '' })
const ids = computed({
  get: () => (id.value ? [id.value] : []),
  set: (list: string[]) => (id.value = list.at(-1) ?? ''),
})
</script>

<template>
  <SectionPick v-model="ids" :input-id="inputId" :label="label" />
</template>
