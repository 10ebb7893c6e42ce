<script setup lang="ts">
import Textarea from 'primevue/textarea'

/** Stands in for the editor while that is loaded, or cannot be. */
defineProps<{ id?: string; label?: string; labelledBy?: string; rows?: number; placeholder?: string }>()
const text = defineModel<string | undefined>()
</script>

<template>
  <Textarea
    :id="id"
    v-model="text"
    :aria-label="label"
    :aria-labelledby="labelledBy"
    :rows="rows ?? 1"
    :placeholder="placeholder"
    spellcheck="false"
  />
</template>
