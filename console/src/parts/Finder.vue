<script setup lang="ts">
import AutoComplete from 'primevue/autocomplete'
import { ref, watch } from 'vue'

/** What was found; `apart` tells it from another one with the same label. */
interface Found {
  id: string
  label: string
  apart?: string
}

/** Finds one of very many by typing; the model is its id, empty for none. */
const props = defineProps<{
  label: string
  inputId?: string
  /** Gives what fits a text, a few at most. */
  search: (text: string) => Promise<Found[]>
  /** Gives the one with an id, to name what is chosen already. */
  named?: (id: string) => Promise<Found | undefined>
}>()
const id = defineModel<string>({ required: true })
const picked = ref<Found | string | null>(null)
const found = ref<Found[]>([])
const problem = ref('')
async function look(text: string) {
  problem.value = ''
  try {
    found.value = await props.search(text)
  } catch (e) {
    found.value = []
    problem.value = `It could not be looked for: ${e instanceof Error ? e.message : String(e)}`
  }
}
watch(picked, (p) => (id.value = p && typeof p === 'object' ? p.id : ''))
watch(
  id,
  async (now) => {
    const shown = picked.value && typeof picked.value === 'object' ? picked.value.id : ''
    if (now === shown) return
    if (!now) {
      picked.value = null
      return
    }
    problem.value = ''
    try {
      const one = (await props.named?.(now)) ?? { id: now, label: 'no longer there' }
      if (id.value === now) picked.value = one
    } catch (e) {
      problem.value = `It could not be looked for: ${e instanceof Error ? e.message : String(e)}`
    }
  },
  { immediate: true },
)
</script>

<template>
  <span class="finder">
    <AutoComplete
      v-model="picked"
      :suggestions="found"
      :input-id="inputId"
      :aria-label="label"
      :placeholder="label"
      option-label="label"
      :min-length="2"
      :delay="200"
      empty-search-message="Nothing fits."
      @complete="look($event.query)"
    >
      <template #option="{ option }"
        ><span
          >{{ option.label }} <span v-if="option.apart" class="faint">{{ option.apart }}</span></span
        ></template
      >
    </AutoComplete>
    <small v-if="problem" class="problem" role="alert">{{ problem }}</small>
  </span>
</template>

<style scoped>
.finder {
  display: inline-grid;
}

.finder :deep(input) {
  width: 11rem;
}

.problem {
  color: var(--signal);
}
</style>
