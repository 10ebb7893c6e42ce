import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref, shallowRef, watch, type Ref } from 'vue'

import { api, ok, type Query, type Schemas } from '../../api/client'

export type Section = Schemas['Section']

/** What narrows a list of sections; empty values do not. */
export interface Filters {
  text: string
  organisation: string
  course: string
  term: string
  teacher: string
  role: string
  state: NonNullable<Query<'list-sections'>['state']>
  service: string
  atLeast: string
  atMost: string
  hidden: string
}

/** What a list of sections is sorted by. */
export type Sort = NonNullable<Query<'list-sections'>['sort']>

export function noFilters(): Filters {
  return {
    text: '',
    organisation: '',
    course: '',
    term: '',
    teacher: '',
    role: '',
    state: '',
    service: '',
    atLeast: '',
    atMost: '',
    hidden: '',
  }
}

/** How many sections are loaded at once. */
const page = 200

function ask(f: Filters, sort: Sort, limit: number, cursor: number) {
  const query = {
    ...f,
    sort,
    atLeast: Number(f.atLeast) || 0,
    limit,
    cursor: cursor ? String(cursor) : '',
  }
  return ok(api.GET('/api/v1/sections', { params: { query } }))
}

/**
 * A list of sections of any length: the first page at once, the others when they
 * come into view. Rows that are not loaded yet have only their key.
 */
export function useSections(filters: Ref<Filters>, sort: Ref<Sort>) {
  const queries = useQueryClient()
  const first = useQuery({
    queryKey: ['sections', filters, sort],
    queryFn: () => ask(filters.value, sort.value, page, 0),
    placeholderData: (before) => before,
  })
  const rows = shallowRef<Section[] | undefined>()
  const loaded = new Set<number>()
  let shown = 0
  const blank = (n: number) => ({ id: `row-${n}` }) as Section

  watch(
    first.data,
    (now) => {
      if (!now) return
      loaded.clear()
      loaded.add(0)
      rows.value = Array.from({ length: now.total }, (_, n) => now.items[n] ?? rows.value?.[n] ?? blank(n))
      if (shown > 0) void load(shown, shown)
    },
    { immediate: true },
  )

  /** Loads what is to be seen from one row to another. */
  async function load(from: number, to: number) {
    shown = Math.floor(from / page)
    for (let n = shown; n <= Math.floor(Math.max(to - 1, 0) / page); n++) {
      if (loaded.has(n) || n * page >= (rows.value?.length ?? 0)) continue
      loaded.add(n)
      const wanted = filters.value
      const by = sort.value
      const more = await queries.fetchQuery({
        queryKey: ['sections', wanted, by, n],
        queryFn: () => ask(wanted, by, page, n * page),
        staleTime: 1000,
      })
      if (wanted !== filters.value || by !== sort.value || !rows.value) return
      const all = rows.value.slice()
      more.items.forEach((x, i) => (all[n * page + i] = x))
      rows.value = all
    }
  }

  /** Gives every section that fits, of one state if said, for choosing them all. */
  async function everything(state?: Filters['state']) {
    const all: Section[] = []
    for (let next: string | undefined = '0'; next !== undefined;) {
      const some: Schemas['SectionPage'] = await ask(
        state ? { ...filters.value, state } : filters.value,
        sort.value,
        1000,
        Number(next),
      )
      all.push(...some.items)
      next = some.next
    }
    return all
  }

  return {
    rows,
    load,
    everything,
    total: computed(() => first.data.value?.total),
    left: computed(() => first.data.value?.hidden ?? []),
    choices: computed(() => first.data.value?.choices),
    loading: first.isLoading,
    error: first.error,
    again: first.refetch,
  }
}

/** Sections that are chosen, by key; they stay chosen while filters change. */
export function useChosen() {
  const chosen = ref(new Map<string, Section>())
  const key = (x: Section) => x.pairingId ?? x.id
  return {
    chosen,
    list: computed(() => [...chosen.value.values()]),
    has: (x: Section) => chosen.value.has(key(x)),
    toggle(x: Section) {
      const next = new Map(chosen.value)
      if (!next.delete(key(x))) next.set(key(x), x)
      chosen.value = next
    },
    take(all: Section[]) {
      chosen.value = new Map(all.map((x) => [key(x), x]))
    },
    /** Chooses all of these besides what is chosen, or, when they are chosen, none of them. */
    toggleAll(all: Section[]) {
      const next = new Map(chosen.value)
      const every = all.every((x) => next.has(key(x)))
      for (const x of all) {
        if (every) next.delete(key(x))
        else next.set(key(x), x)
      }
      chosen.value = next
    },
    clear: () => (chosen.value = new Map()),
  }
}
