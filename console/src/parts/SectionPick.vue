<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import AutoComplete from 'primevue/autocomplete'
import Button from 'primevue/button'
import { computed, ref, watch } from 'vue'

import { section, sections } from './find'

/** Chooses sections, which are searched for at the service; the model is their ids. */
defineProps<{ inputId?: string; label?: string }>()
const ids = defineModel<string[]>({ required: true })
type Picked = { id: string; label: string; apart: string }
const found = ref<Picked[]>([])
const problem = ref('')
async function search(text: string) {
  problem.value = ''
  try {
    found.value = await sections(text)
  } catch (e) {
    found.value = []
    problem.value = `Sections could not be looked for: ${e instanceof Error ? e.message : String(e)}`
  }
}
// What is chosen already is named.
const picked = ref<Picked[]>([])
const names = useQuery({
  queryKey: ['sections', 'named', ids],
  queryFn: async () => {
    const out: Picked[] = []
    for (const id of ids.value) {
      out.push((await section(id)) ?? { id, label: 'a section that is gone', apart: id })
    }
    return out
  },
  enabled: computed(() => ids.value.some((id) => !picked.value.some((p) => p.id === id))),
})
watch(names.data, (list) => list && (picked.value = list))
function choose(list: Picked[]) {
  picked.value = list
  ids.value = list.map((p) => p.id)
}
</script>

<template>
  <AutoComplete
    :model-value="picked"
    :suggestions="found"
    :input-id="inputId"
    :aria-label="label"
    option-label="label"
    multiple
    force-selection
    placeholder="type a title, code, teacher or course"
    empty-search-message="No section fits."
    @complete="search($event.query)"
    @update:model-value="choose"
  >
    <template #option="{ option }"
      ><span
        >{{ option.label }} <span class="faint">{{ option.apart }}</span></span
      ></template
    >
    <template #chip="{ value, removeCallback }"
      ><span :title="value.apart"
        >{{ value.label }} <span class="faint">{{ value.apart }}</span>
        <Button
          unstyled
          type="button"
          class="off"
          :aria-label="`Take ${value.label} off`"
          @click.stop="removeCallback($event)"
        >
          ×
        </Button></span
      ></template
    >
  </AutoComplete>
  <small v-if="problem || names.error.value" class="problem" role="alert">{{
    problem || names.error.value?.message
  }}</small>
</template>

<style scoped>
.off {
  font: inherit;
  border: 0;
  background: none;
  cursor: pointer;
}

.problem {
  color: var(--signal);
}
</style>
