<script setup lang="ts">
import AutoComplete from 'primevue/autocomplete'
import { computed, onMounted, ref, watch } from 'vue'

import { $t } from '../texts'
import type { Found, Finds } from './find'

/** Finds one of very many by typing; the model is its id, empty for none. */
const props = defineProps<{
  label: string
  inputId?: string
  /** Whether it is where typing begins on the page. */
  first?: boolean
  /** Gives what fits a text, a few at most. */
  search: (text: string) => Promise<Finds>
  /** Gives the one with an id, to name what is chosen already. */
  named?: (id: string) => Promise<Found | undefined>
}>()
const id = defineModel<string>({ required: true })
onMounted(() => props.first && props.inputId && document.getElementById(props.inputId)?.focus())
const picked = ref<Found | string | null>(null)
const finds = ref<Finds>({ items: [], total: 0 })
const more = computed(() => finds.value.total - finds.value.items.length)
const problem = ref('')
async function look(text: string) {
  problem.value = ''
  try {
    finds.value = await props.search(text)
  } catch (e) {
    finds.value = { items: [], total: 0 }
    problem.value = $t('parts.itCouldNotBeLooked', { e: e instanceof Error ? e.message : String(e) })
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
      const one = (await props.named?.(now)) ?? { id: now, label: $t('parts.noLongerThere') }
      if (id.value === now) picked.value = one
    } catch (e) {
      problem.value = $t('parts.itCouldNotBeLooked', { e: e instanceof Error ? e.message : String(e) })
    }
  },
  { immediate: true },
)
</script>

<template>
  <span class="finder">
    <AutoComplete
      v-model="picked"
      :suggestions="finds.items"
      :input-id="inputId"
      :aria-label="label"
      :placeholder="label"
      option-label="label"
      :min-length="2"
      :delay="200"
      :empty-search-message="$t('common.nothingFits')"
      @complete="look($event.query)"
    >
      <template #option="{ option }"
        ><span
          >{{ option.label }} <span v-if="option.apart" class="faint">{{ option.apart }}</span></span
        ></template
      >
      <template v-if="more > 0" #footer
        ><p class="more faint">
          {{ $t('parts.moreFitTypeMoreOf', { more: more.toLocaleString() }) }}
        </p></template
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

.more {
  margin: 0;
  padding: 0.3rem 0.6rem 0.5rem;
  font-size: 12.5px;
}

.problem {
  color: var(--signal);
}
</style>
