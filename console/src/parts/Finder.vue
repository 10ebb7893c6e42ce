<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, useId, watch } from 'vue'

/** What was found; `apart` tells it from another one with the same label. */
interface Found {
  id: string
  label: string
  apart?: string
}

/** Finds one of very many by typing; the model is its id, empty for none. */
const props = defineProps<{
  label: string
  /** Gives what fits a text, a few at most. */
  search: (text: string) => Promise<Found[]>
}>()
const id = defineModel<string>({ required: true })
const list = useId()
const text = ref('')
/** What was found so far, by label: a label that was chosen is no text to search for. */
const seen = ref<Record<string, string>>({})
/** Labels of which no two are the same. */
function told(list: Found[]) {
  const alike = (key: (f: Found) => string) => (f: Found) => list.filter((o) => key(o) === key(f)).length > 1
  const longer = (f: Found) => (f.apart ? `${f.label} · ${f.apart}` : f.label)
  return list.map((f) => ({
    id: f.id,
    label: !alike((o) => o.label)(f)
      ? f.label
      : alike(longer)(f)
        ? `${longer(f)} · ${f.id.slice(-8)}`
        : longer(f),
  }))
}
const found = useQuery({
  queryKey: ['finder', props.label, text],
  queryFn: async () => told(await props.search(text.value)),
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
