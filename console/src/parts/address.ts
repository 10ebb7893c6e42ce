import { computed, nextTick, type Ref, ref, watch, type WritableComputedRef } from 'vue'
import { type LocationQueryRaw, useRoute, useRouter } from 'vue-router'

// What is put into the address in one go makes one entry of the history, not one for each value.
let waiting: { query: LocationQueryRaw; replace: boolean } | undefined

// What the address is on its way to be: what is chosen meanwhile goes on from there, and what it
// still says meanwhile does not count.
let coming: LocationQueryRaw | undefined

/**
 * What is chosen on a page (filters, ticks, tabs, the place in a list) is kept in its address, so
 * that Back, reload and a sent link show the same. What is as usual is left out of it.
 */
export function useAddress() {
  const route = useRoute()
  const router = useRouter()
  const page = route.matched.at(-1)?.path

  function put(values: Record<string, string | undefined>, replace = false) {
    if (waiting) {
      Object.assign(waiting.query, values)
      waiting.replace &&= replace
      return
    }
    const mine = (waiting = { query: { ...(coming ?? route.query), ...values }, replace })
    void nextTick(() => {
      waiting = undefined
      if (route.matched.at(-1)?.path !== page) return // somebody has gone on meanwhile
      coming = mine.query
      void router[mine.replace ? 'replace' : 'push']({ query: mine.query, hash: route.hash }).finally(() => {
        if (coming === mine.query) coming = undefined
      })
    })
  }

  // Another page's address says nothing about this one, which is just being left.
  const read = (name: string, usual: string): string | undefined =>
    route.matched.at(-1)?.path === page ? String(route.query[name] ?? usual) : undefined

  // Whoever narrows a list anew sees its first part.
  let first: { name: string; back: () => void } | undefined

  /** A value under a name in the address. What is typed letter by letter does not fill the history. */
  function kept<T extends string = string>(
    name: string,
    usual: NoInfer<T> = '' as T,
    typed = false,
  ): WritableComputedRef<T> {
    const value = ref(read(name, usual)) as Ref<T>
    watch(
      () => read(name, usual),
      (now) => {
        const settled = !waiting && (!coming || String(coming[name] ?? usual) === now)
        if (now !== undefined && settled) value.value = now as T
      },
    )
    return computed({
      get: () => value.value,
      set: (now) => {
        if (now === value.value) return
        value.value = now
        if (name !== first?.name) first?.back()
        put({ [name]: now === usual ? undefined : now }, typed)
      },
    })
  }

  /** A tick under a name in the address. */
  function tick(name: string, usual = false): WritableComputedRef<boolean> {
    const text = kept(name, usual ? 'yes' : 'no')
    return computed({ get: () => text.value === 'yes', set: (on) => (text.value = on ? 'yes' : 'no') })
  }

  /** Several values at once, each under its own name; `typed` names those that are typed. */
  function all<T extends { [K in keyof T]: string }>(
    usual: () => T,
    ...typed: (keyof T & string)[]
  ): WritableComputedRef<T> {
    const names = Object.keys(usual()) as (keyof T & string)[]
    const one = {} as Record<keyof T & string, Ref<string>>
    for (const n of names) one[n] = kept<string>(n, usual()[n], typed.includes(n))
    return computed({
      get: () => Object.fromEntries(names.map((n) => [n, one[n].value])) as T,
      set: (now) => {
        for (const n of names) one[n].value = now[n]
      },
    })
  }

  /** The place in a list that is shown in parts: the cursors of the parts before. */
  function cursors(name = 'from'): WritableComputedRef<string[]> {
    const text = kept(name)
    first = { name, back: () => (text.value = '') }
    return computed({
      get: () => (text.value ? text.value.split(',') : []),
      set: (now) => (text.value = now.join(',')),
    })
  }

  return { kept, tick, all, cursors }
}

/** The path of one of the service's own addresses: from where the console is, whatever the public address. */
export const here = (address: string) => new URL(address).pathname
