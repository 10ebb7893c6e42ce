<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, ok, type Schemas } from '../../api/client'
import Counts from '../../parts/Counts.vue'
import Listing from '../../parts/Listing.vue'
import PageHead from '../../parts/PageHead.vue'
import Signal from '../../parts/Signal.vue'
import AsideForm from './AsideForm.vue'
import PairDialog from './PairDialog.vue'

type Section = Schemas['Section']

const route = useRoute()
const router = useRouter()
const text = ref('')
const state = ref(String(route.query.state ?? ''))
const term = ref('')
const aside = ref(route.query.pair ? '*' : '')
const query = computed(() => ({
  text: text.value,
  state: state.value,
  term: term.value,
  aside: aside.value,
  limit: 1000,
}))
const list = useQuery({
  queryKey: ['sections', query],
  queryFn: () => ok(api.GET('/api/v1/sections', { params: { query: query.value } })),
  placeholderData: (before) => before,
})
const rows = computed(() => list.data.value?.items)
const left = computed(() => list.data.value?.aside ?? [])
const editing = ref(false)
const terms = ref<string[]>([])
watch(
  rows,
  (all) => {
    for (const t of all?.flatMap((x) => x.terms) ?? []) if (!terms.value.includes(t)) terms.value.push(t)
  },
  { immediate: true },
)
const states = [
  'needs-person',
  'out-of-step',
  'never-run',
  'held',
  'paused',
  'in-step',
  'not-paired',
  'ended',
]

const pairing = ref<Section | undefined>()
watch(
  [rows, () => route.query.pair],
  ([all, id]) => {
    if (id) pairing.value = all?.find((x) => x.id === id)
  },
  { immediate: true },
)

function close() {
  pairing.value = undefined
  if (route.query.pair) void router.replace({ query: { ...route.query, pair: undefined } })
}

function open(row: object) {
  const x = row as Section
  if (x.pairingId) void router.push(`/pairings/${x.pairingId}`)
  else pairing.value = x
}
</script>

<template>
  <PageHead title="Sections" :about="rows ? `${rows.length} shown` : undefined">
    <input
      v-model="text"
      class="filter"
      type="search"
      placeholder="Title, course or teacher"
      aria-label="Find"
    />
    <select v-model="term" class="filter" aria-label="Term">
      <option value="">every term</option>
      <option v-for="t in terms" :key="t">{{ t }}</option>
    </select>
    <select v-model="state" class="filter" aria-label="State">
      <option value="">every state</option>
      <option v-for="s in states" :key="s" :value="s">{{ s.replaceAll('-', ' ') }}</option>
    </select>
  </PageHead>
  <p v-if="left.length" class="aside faint">
    Left aside:
    <button
      v-for="l in left"
      :key="l.name"
      type="button"
      :aria-pressed="aside === l.name"
      @click="aside = aside === l.name ? '' : l.name"
    >
      {{ l.name }} {{ l.count }}
    </button>
    <button type="button" :aria-pressed="aside === '*'" @click="aside = aside === '*' ? '' : '*'">
      show everything
    </button>
    <button type="button" @click="editing = true">rules…</button>
  </p>
  <AsideForm v-if="editing" @close="editing = false" />
  <Listing
    :rows="rows"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    :choose="open"
    empty="No section fits. Clear the filters, or connect a register and read it."
  >
    <Column header="State"
      ><template #body="{ data }"><Signal :state="data.state" /></template
    ></Column>
    <Column header="Section">
      <template #body="{ data }"
        >{{ data.title }} <span class="faint">{{ data.code }}</span></template
      >
    </Column>
    <Column field="course" header="Course" />
    <Column header="Term"
      ><template #body="{ data }">{{ data.terms.join(', ') }}</template></Column
    >
    <Column header="Teachers"
      ><template #body="{ data }">{{ data.teachers.join(', ') }}</template></Column
    >
    <Column field="learners" header="Learners" />
    <Column header="Target">
      <template #body="{ data }">
        <template v-if="data.target">{{ data.target }} <Counts :counts="data.counts" wordless /></template>
        <Button
          v-else-if="data.state === 'not-paired'"
          size="small"
          variant="text"
          class="pair"
          label="Pair…"
          @click.stop="pairing = data"
        />
      </template>
    </Column>
  </Listing>
  <PairDialog v-if="pairing" :section="pairing" @close="close" />
</template>

<style scoped>
.aside {
  display: flex;
  gap: 0.9rem;
  margin: 0 0 0.5rem;
  font-size: 12.5px;
}

.aside button {
  font: inherit;
  border: 0;
  border-bottom: 2px solid transparent;
  background: none;
  color: inherit;
  padding: 0 0 0.1rem;
  cursor: pointer;
}

.aside button[aria-pressed='true'] {
  color: var(--ink);
  border-color: var(--ink);
}

.pair {
  padding: 0;
}
</style>
