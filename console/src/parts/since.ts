import { computed } from 'vue'

import type { useAddress } from './address'

/** How far back a list goes, in hours, 0 for everything; it is kept in the page's address. And since when that is, to
 * the minute, so that what was asked a moment ago is not asked again. */
export function useSince(address: ReturnType<typeof useAddress>) {
  const text = address.kept('hours')
  const hours = computed({
    get: () => Number(text.value) || 0,
    set: (n: number) => (text.value = n ? String(n) : ''),
  })
  const since = computed(() =>
    hours.value
      ? new Date(Math.floor(Date.now() / 60000) * 60000 - hours.value * 3600e3).toISOString()
      : undefined,
  )
  return { hours, since }
}
