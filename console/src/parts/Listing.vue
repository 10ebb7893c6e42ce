<script setup lang="ts" generic="T extends object">
import DataTable, { type DataTableSortEvent } from 'primevue/datatable'
import Skeleton from 'primevue/skeleton'
import { computed } from 'vue'
import type { RouteLocationRaw } from 'vue-router'

import { useAddress } from './address'
import Oops from './Oops.vue'

/** Every table of the console: rows, or why there are none. Columns go into the slot. */
const props = defineProps<{
  rows: T[] | undefined
  loading: boolean
  error: Error | null
  /** What to say when there is nothing. */
  empty: string
  /** What to do next when there is nothing. */
  next?: { to: RouteLocationRaw; text: string }
  again?: () => unknown
  /** Makes rows choosable. */
  choose?: (row: T) => unknown
  rowKey?: string
  /** Rows of one height in pixels: only those in view are drawn, so that there may
   * be any number of them. `see` is told which are. */
  tall?: number
  see?: (from: number, to: number) => unknown
  rowClass?: (row: T) => string
  /** Its columns can be sorted by those that say so; which one is kept in the address.
   * `there` leaves the sorting to whoever gives the rows. */
  sorts?: boolean | 'there'
}>()
const address = useAddress()
const by = address.kept('sort')
// Of a long list a part is drawn; which one is in the address too.
const part = address.kept('part', '1')
const from = computed(() => {
  const last = Math.max(0, Math.ceil((props.rows?.length ?? 0) / many) - 1)
  return Math.min(Math.max(0, (Number(part.value) || 1) - 1), last) * many
})
const field = computed(() => (props.sorts ? by.value.replace(/^-/, '') || undefined : undefined))

function sort(e: DataTableSortEvent) {
  by.value = typeof e.sortField === 'string' && e.sortOrder ? (e.sortOrder < 0 ? '-' : '') + e.sortField : ''
}

/** So many rows are drawn at once; the others are pages of their own. */
const many = 200
</script>

<template>
  <Oops v-if="error" :error="error" :again="again" />
  <div
    v-else-if="loading && !rows"
    class="sheet waiting"
    role="status"
    aria-busy="true"
    :aria-label="$t('parts.loading')"
  >
    <Skeleton v-for="n in 5" :key="n" height="1.1rem" />
  </div>
  <p v-else-if="!rows?.length" class="sheet empty faint">
    {{ empty }} <RouterLink v-if="next" :to="next.to">{{ next.text }}</RouterLink>
  </p>
  <DataTable
    v-else
    class="sheet"
    :value="rows as T[]"
    :data-key="rowKey ?? 'id'"
    size="small"
    :row-hover="!!choose"
    :row-class="(x: T) => `${choose ? 'choosable' : ''} ${rowClass?.(x) ?? ''}`"
    :paginator="!tall && rows.length > many"
    :rows="tall ? undefined : many"
    :first="tall ? undefined : from"
    paginator-template="FirstPageLink PrevPageLink CurrentPageReport NextPageLink LastPageLink"
    current-page-report-template="{first} to {last} of {totalRecords}"
    :scrollable="!!tall"
    :scroll-height="tall ? `${Math.min(rows.length * tall + 42, 640)}px` : undefined"
    :virtual-scroller-options="
      tall
        ? {
            itemSize: tall,
            lazy: true,
            showLoader: false,
            onLazyLoad: (e: { first: number; last: number }) => see?.(e.first, e.last),
          }
        : undefined
    "
    :lazy="sorts === 'there'"
    removable-sort
    :sort-field="field"
    :sort-order="by.startsWith('-') ? -1 : 1"
    @page="(e) => (part = String(e.page + 1))"
    @sort="sort"
    @row-click="(e) => choose?.(e.data as T)"
  >
    <slot />
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

:deep(.choosable) {
  cursor: pointer;
}
</style>
