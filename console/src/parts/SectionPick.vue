<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import AutoComplete from 'primevue/autocomplete'
import { computed, ref, watch } from 'vue'

import { $t } from '../texts'
import { section, sections } from './find'

/** Chooses sections, which are searched for at the service; the model is their ids. */
defineProps<{ inputId?: string; label?: string }>()
const ids = defineModel<string[]>({ required: true })
type Picked = { id: string; label: string; apart?: string }
const found = ref<Picked[]>([])
const more = ref(0)
const problem = ref('')
async function search(text: string) {
  problem.value = ''
  try {
    const finds = await sections(text)
    found.value = finds.items as Picked[]
    more.value = finds.total - finds.items.length
  } catch (e) {
    found.value = []
    more.value = 0
    problem.value = $t('parts.sectionsCouldNotBeLooked', { e: e instanceof Error ? e.message : String(e) })
  }
}
// What is chosen already is named.
const picked = ref<Picked[]>([])
const names = useQuery({
  queryKey: ['sections', 'named', ids],
  queryFn: async () => {
    const out: Picked[] = []
    for (const id of ids.value) {
      out.push((await section(id)) ?? { id, label: $t('parts.sectionThatIsGone'), apart: id })
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
    :pt="{
      inputMultiple: {
        role: 'group',
        'aria-label': $t('parts.sectionsChosen', { label: label ?? $t('common.sections') }),
        'aria-orientation': undefined,
      },
      inputChip: { role: 'none' },
      // what is said of an option of a list is not said of a group's element
      chipItem: {
        role: 'none',
        'aria-label': undefined,
        'aria-selected': undefined,
        'aria-setsize': undefined,
        'aria-posinset': undefined,
      },
    }"
    option-label="label"
    multiple
    force-selection
    :placeholder="$t('parts.typeTitleCodeTeacherOr')"
    :empty-search-message="$t('parts.noSectionFits')"
    @complete="search($event.query)"
    @update:model-value="choose"
  >
    <template #option="{ option }"
      ><span
        >{{ option.label }} <span class="faint">{{ option.apart }}</span></span
      ></template
    >
    <template v-if="more > 0" #footer
      ><p class="more faint">
        {{ $t('parts.moreFitTypeMoreOfMore', { more: more.toLocaleString() }) }}
      </p></template
    >
    <template #chip="{ value, removeCallback }"
      ><span :title="value.apart"
        >{{ value.label }} <span class="faint">{{ value.apart }}</span>
        <span class="off" :title="$t('parts.takeItOffByKeyboard')" @click.stop="removeCallback($event)"
          >×</span
        ></span
      ></template
    >
  </AutoComplete>
  <small v-if="problem || names.error.value" class="problem" role="alert">{{
    problem || names.error.value?.message
  }}</small>
</template>

<style scoped>
.off {
  margin-inline-start: 0.4rem;
  cursor: pointer;
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
