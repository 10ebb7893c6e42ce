<script setup lang="ts">
import Button from 'primevue/button'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import Skeleton from 'primevue/skeleton'

import Counts from '../../parts/Counts.vue'
import Oops from '../../parts/Oops.vue'
import Signal from '../../parts/Signal.vue'
import { when } from '../../parts/when'
import type { Section } from './sections'

/** Sections as a table of any length; only the rows in view are drawn. */
defineProps<{
  rows: Section[] | undefined
  loading: boolean
  error: Error | null
  again: () => unknown
  has: (x: Section) => boolean
  /** How many are chosen: draws the ticks anew. */
  chosen: number
}>()
const emit = defineEmits<{
  see: [from: number, to: number]
  open: [x: Section]
  pair: [x: Section]
  toggle: [x: Section]
  all: []
}>()

/** Height of a row in pixels; all have the same, so that any of them can be found. */
const height = 46
</script>

<template>
  <Oops v-if="error" :error="error" :again="again" />
  <div v-else-if="loading && !rows" class="sheet waiting" aria-busy="true" aria-label="Loading">
    <Skeleton v-for="n in 5" :key="n" height="1.1rem" />
  </div>
  <p v-else-if="!rows?.length" class="sheet empty faint">
    No section fits. Clear the filters, or connect a register and read it.
  </p>
  <DataTable
    v-else
    class="sheet sections"
    :value="rows"
    data-key="id"
    size="small"
    row-hover
    :row-class="(x: Section) => (has(x) ? 'choosable chosen' : 'choosable')"
    scrollable
    :scroll-height="`${Math.min(rows.length * height + 42, 640)}px`"
    :virtual-scroller-options="{
      itemSize: height,
      lazy: true,
      showLoader: false,
      onLazyLoad: (e: { first: number; last: number }) => emit('see', e.first, e.last),
    }"
    @row-click="(e) => emit('open', e.data as Section)"
  >
    <Column style="width: 2rem">
      <template #header>
        <input
          type="checkbox"
          aria-label="Choose all that fit"
          :checked="chosen > 0 && chosen >= rows.length"
          @click.stop="emit('all')"
        />
      </template>
      <template #body="{ data }">
        <input
          v-if="data.state"
          type="checkbox"
          :aria-label="`Choose ${data.title}`"
          :checked="has(data)"
          @click.stop="emit('toggle', data)"
        />
      </template>
    </Column>
    <Column header="State" style="width: 9rem"
      ><template #body="{ data }"
        ><Signal v-if="data.state" :state="data.state" /><Skeleton v-else width="5rem" /></template
    ></Column>
    <Column header="Section" style="width: 15.5rem">
      <template #body="{ data }"
        ><span class="one"
          >{{ data.title }}
          <span class="faint">{{ data.set ? `${data.set.sections.length} linked` : data.code }}</span></span
        ></template
      >
    </Column>
    <Column header="Course" style="width: 10rem"
      ><template #body="{ data }"
        ><span class="one">{{ data.course }}</span></template
      ></Column
    >
    <Column header="Term" style="width: 8rem"
      ><template #body="{ data }"
        ><span class="one">{{ data.terms?.join(', ') }}</span></template
      ></Column
    >
    <Column header="Teachers"
      ><template #body="{ data }"
        ><span class="one" :title="data.teachers?.join(', ')">{{ data.teachers?.join(', ') }}</span></template
      ></Column
    >
    <Column field="learners" header="Learners" style="width: 4.5rem" />
    <Column header="Class">
      <template #body="{ data }">
        <span v-if="data.target" class="one"
          >{{ data.target }} <Counts :counts="data.counts" wordless
        /></span>
        <Button
          v-else-if="data.state === 'not-paired'"
          size="small"
          variant="text"
          class="pair"
          label="Pair…"
          @click.stop="emit('pair', data)"
        />
      </template>
    </Column>
    <Column header="Last run" style="width: 9.5rem"
      ><template #body="{ data }"
        ><span class="one faint">{{ data.pairingId ? when(data.ranAt) : '' }}</span></template
      ></Column
    >
  </DataTable>
</template>

<style scoped>
.waiting {
  padding: 1rem;
  display: grid;
  gap: 0.7rem;
}

.empty {
  padding: 1.4rem;
  margin: 0;
}

.sections :deep(table) {
  table-layout: fixed;
}

.sections :deep(tbody tr) {
  height: 46px;
  cursor: pointer;
}

.sections :deep(.p-datatable-tbody > tr > td) {
  padding-block: 0;
  vertical-align: middle;
}

.sections :deep(tr.chosen) {
  background: var(--hair);
}

.one {
  display: block;
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}

.pair {
  padding: 0;
}
</style>
