<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, defineAsyncComponent } from 'vue'

import { api, ok } from '../../api/client'
import { useAddress } from '../../parts/address'
import TickField from '../../parts/form/TickField.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import Signal from '../../parts/Signal.vue'
import Tabs from '../../parts/Tabs.vue'
import { mayAll } from '../../shell/may'
import Browser from '../sections/Browser.vue'
import { type Filters, noFilters } from '../sections/sections'
import Card from './Card.vue'
import { useToday } from './today'
import Today from './Today.vue'

// Only a new installation needs them.
const FirstSteps = defineAsyncComponent(() => import('../start/FirstSteps.vue'))

const address = useAddress()
const filters = address.all(noFilters, 'text', 'atLeast', 'atMost')
// How one likes it is remembered; a link says it for itself.
const mode = address.kept('as', localStorage.getItem('board') ?? 'columns')
const kind = computed({
  get: () => mode.value,
  set: (v) => {
    localStorage.setItem('board', v)
    mode.value = v
  },
})
const board = useQuery({
  queryKey: ['board', filters],
  queryFn: () =>
    ok(
      api.GET('/api/v1/board', {
        params: { query: { ...filters.value, atLeast: Number(filters.value.atLeast) || 0 } },
      }),
    ),
  placeholderData: (before) => before,
})
// What needs somebody stands above the board, and must not push it down when it comes.
const today = useToday()
const columns = computed(() => (board.data.value?.columns ?? []).filter((c) => c.count > 0))
const total = computed(() => columns.value.reduce((n, c) => n + c.count, 0))
const counted = computed(() => Object.fromEntries(columns.value.map((c) => [c.state, c.count])))
const ran = computed(() =>
  ['in-step', 'out-of-step', 'needs-person'].reduce((n, state) => n + (counted.value[state] ?? 0), 0),
)
const used = computed(() => Object.values(filters.value).some((v) => v))
</script>

<template>
  <PageHead
    :title="$t('board.board')"
    :about="total ? $t('board.sectionsByStateOnesThat', { total: total.toLocaleString() }, total) : undefined"
  >
    <Tabs
      v-model="kind"
      :label="$t('board.showAs')"
      :tabs="[
        { name: 'columns', title: $t('board.columns') },
        { name: 'table', title: $t('board.table') },
      ]"
    />
  </PageHead>
  <Oops v-if="board.error.value" :error="board.error.value" :again="board.refetch" />
  <FirstSteps
    v-if="board.data.value && !used && !ran && mayAll('look')"
    :sections="total"
    :paired="total - (counted['not-paired'] ?? 0)"
    :ran="ran"
  />
  <template v-if="(total || used) && board.data.value && today.isFetched.value">
    <Today />
    <Browser v-if="kind === 'table'" v-model="filters" />
    <Browser v-else v-slot="{ chosen, chooseAll }" v-model="filters">
      <p v-if="!total && board.data.value" class="sheet empty faint">
        {{ $t('board.noSectionFitsClearFilters') }}
      </p>
      <div class="board" :aria-busy="board.isLoading.value">
        <section v-for="c in columns" :key="c.state" :aria-label="c.state" :class="c.state">
          <h2>
            <Signal :state="c.state" />
            <span class="many"
              ><b>{{ c.count.toLocaleString() }}</b
              ><TickField
                :model-value="chosen.list.value.filter((x) => x.state === c.state).length >= c.count"
                hidden
                :label="$t('board.chooseAllInThisColumn', { count: c.count })"
                @update:model-value="chooseAll(c.state as Filters['state'])"
            /></span>
          </h2>
          <Card
            v-for="x in c.cards"
            :key="x.id + x.pairingId"
            :section="x"
            :chosen="chosen.has(x)"
            @toggle="chosen.toggle(x)"
          />
          <RouterLink
            v-if="c.count > c.cards.length"
            class="more"
            :to="{ path: '/sections', query: { state: c.state } }"
            >{{ $t('board.all', { count: c.count.toLocaleString() }) }}</RouterLink
          >
        </section>
      </div>
    </Browser>
  </template>
</template>

<style scoped>
.empty {
  padding: 1.4rem;
}

.board {
  display: grid;
  grid-auto-flow: column;
  grid-auto-columns: minmax(15rem, 22rem);
  gap: 1rem;
  overflow-x: auto;
  align-items: start;
  padding-bottom: 1rem;
}

h2 {
  display: flex;
  justify-content: space-between;
  border-bottom: 1.5px solid var(--ink);
  padding-bottom: 0.3rem;
  margin-top: 0.6rem;
}

.many {
  display: flex;
  gap: 0.6rem;
  padding-inline-end: 0.75rem;
}

.needs-person h2 {
  border-color: var(--signal);
}

.more {
  display: block;
  padding: 0.4rem 0;
}
</style>
