<script setup lang="ts">
import Button from 'primevue/button'
import Column from 'primevue/column'
import Skeleton from 'primevue/skeleton'

import Counts from '../../parts/Counts.vue'
import TickField from '../../parts/form/TickField.vue'
import Listing from '../../parts/Listing.vue'
import Signal from '../../parts/Signal.vue'
import { when } from '../../parts/when'
import { may } from '../../shell/may'
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
  <Listing
    class="sections"
    :rows="rows"
    :loading="loading"
    :error="error"
    :again="again"
    :empty="$t('sections.noSectionFitsClearFilters')"
    :next="{ to: '/connections', text: $t('sections.seeRegisters') }"
    sorts="there"
    :tall="height"
    :see="(from, to) => emit('see', from, to)"
    :choose="(x) => emit('open', x)"
    :row-class="(x) => (has(x) ? 'chosen' : '')"
  >
    <Column style="width: 2rem">
      <template #header>
        <TickField
          :model-value="chosen > 0 && chosen >= (rows?.length ?? 0)"
          hidden
          :label="$t('sections.chooseAllThatFit')"
          @click.stop
          @update:model-value="emit('all')"
        />
      </template>
      <template #body="{ data }">
        <TickField
          v-if="data.state"
          :model-value="has(data)"
          hidden
          :label="$t('common.choose', { title: data.title })"
          @click.stop
          @update:model-value="emit('toggle', data)"
        />
      </template>
    </Column>
    <Column sortable sort-field="state" :header="$t('common.state')" style="width: 9.8rem"
      ><template #body="{ data }"
        ><Signal v-if="data.state" :state="data.state" /><Skeleton v-else width="5rem" /></template
    ></Column>
    <Column sortable sort-field="section" :header="$t('common.section')" style="width: 14.7rem">
      <template #body="{ data }"
        ><span class="one"
          ><RouterLink
            v-if="data.state"
            :to="
              data.pairingId ? `/pairings/${data.pairingId}` : { query: { ...$route.query, pair: data.id } }
            "
            @click.stop
            >{{ data.title }}</RouterLink
          >
          <span class="faint">{{
            data.set ? $t('sections.linked', { sections: data.set.sections.length }) : data.code
          }}</span></span
        ></template
      >
    </Column>
    <Column sortable sort-field="course" :header="$t('common.course')" style="width: 10.3rem"
      ><template #body="{ data }"
        ><span class="one">{{ data.course }}</span></template
      ></Column
    >
    <Column sortable sort-field="term" :header="$t('sections.term')" style="width: 8rem"
      ><template #body="{ data }"
        ><span class="one">{{ data.terms?.join(', ') }}</span></template
      ></Column
    >
    <Column sortable sort-field="teachers" :header="$t('sections.teachers')"
      ><template #body="{ data }"
        ><span class="one" :title="data.teachers?.join(', ')">{{ data.teachers?.join(', ') }}</span></template
      ></Column
    >
    <Column sortable field="learners" :header="$t('sections.learnersColumn')" style="width: 6.7rem" />
    <Column sortable sort-field="class" :header="$t('common.class')">
      <template #body="{ data }">
        <span v-if="data.target" class="one"
          >{{ data.target }} <Counts :counts="data.counts" wordless
        /></span>
        <Button
          v-else-if="data.state === 'not-paired' && may('rosters')"
          size="small"
          variant="text"
          class="pair"
          :label="$t('sections.pair')"
          @click.stop="emit('pair', data)"
        />
      </template>
    </Column>
    <Column sortable sort-field="run" :header="$t('sections.lastRun')" style="width: 10.2rem"
      ><template #body="{ data }"
        ><span class="one faint">{{ data.pairingId ? when(data.ranAt) : '' }}</span></template
      ></Column
    >
  </Listing>
</template>

<style scoped>
.sections :deep(table) {
  table-layout: fixed;
}

.sections :deep(tbody tr) {
  height: 46px;
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
