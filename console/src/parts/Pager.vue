<script setup lang="ts">
import Button from 'primevue/button'
/** Turning the pages of a list, the newest first unless said otherwise; the cursors of the
 * pages before are kept. */
const cursor = defineModel<string[]>({ required: true })
const {
  next = undefined,
  back = 'newer',
  on = 'older',
} = defineProps<{ next?: string; back?: string; on?: string }>()
</script>

<template>
  <p class="actions">
    <Button v-if="cursor.length" unstyled type="button" @click="cursor = cursor.slice(0, -1)"
      >← {{ back }}</Button
    >
    <Button v-if="next" unstyled type="button" @click="cursor = [...cursor, next]">{{ on }} →</Button>
  </p>
</template>

<style scoped>
button {
  font: inherit;
  border: 0;
  background: none;
  text-decoration: underline;
  cursor: pointer;
}
</style>
