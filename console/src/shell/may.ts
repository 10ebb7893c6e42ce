import { ref } from 'vue'

import type { Schemas } from '../api/client'

/** Who is signed in, as the last look said. */
export const me = ref<Schemas['Caller']>()

/** What whoever is signed in may do somewhere, and what of it in the whole institution. While that is not known,
 * everything is shown. */
export const acts = ref<string[]>()
export const actsAll = ref<string[]>()

/** Whether they may do something somewhere. */
export const may = (act: string) => acts.value?.includes(act) ?? true

/** Whether they may do something in the whole institution. */
export const mayAll = (act: string) => actsAll.value?.includes(act) ?? true

/** The page on which they begin: teachers with their sections, whoever answers questions with those, whoever sees
 * reports only with these, whoever sees nothing else with their own. */
export function home(): string {
  if (!may('look')) return may('report') ? '/reports' : '/mine'
  if (acts.value?.includes('teach') && !may('rosters')) return '/teaching'
  return may('acknowledge') && !may('sync') ? '/why' : '/board'
}
