<script setup lang="ts">
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
    <button v-if="cursor.length" type="button" @click="cursor = cursor.slice(0, -1)">← {{ back }}</button>
    <button v-if="next" type="button" @click="cursor = [...cursor, next]">{{ on }} →</button>
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
