<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, useId, watch } from 'vue'

/** Finds one of very many by typing; the model is its id, empty for none. */
const props = defineProps<{
  label: string
  /** Gives what fits a text, a few at most. */
  search: (text: string) => Promise<{ id: string; label: string }[]>
}>()
const id = defineModel<string>({ required: true })
const list = useId()
const text = ref('')
/** What was found so far, by label: a label that was chosen is no text to search for. */
const seen = ref<Record<string, string>>({})
const found = useQuery({
  queryKey: ['finder', props.label, text],
  queryFn: () => props.search(text.value),
  enabled: computed(() => text.value.trim().length > 1 && !seen.value[text.value]),
})
watch(found.data, (list) => list?.forEach((f) => (seen.value[f.label] = f.id)))
watch([text, seen], () => (id.value = seen.value[text.value] ?? ''), { deep: true })
</script>

<template>
  <input v-model="text" class="filter" type="search" :list="list" :aria-label="label" :placeholder="label" />
  <datalist :id="list">
    <option v-for="f in found.data.value" :key="f.id" :value="f.label" />
  </datalist>
</template>

<style scoped>
input {
  width: 11rem;
}
</style>
