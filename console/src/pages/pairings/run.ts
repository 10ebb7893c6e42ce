import type { Schemas } from '../../api/client'

/** What a read or a run is called, wherever it is named. */
export function titleOf(r: Schemas['Run']): string {
  if (r.kind === 'read') return `Reading ${r.about}`
  return `${r.ends ? 'Ending' : r.reverts ? 'Reverting' : 'Run of'} ${r.about}`
}

/** How long something took. */
export const lasted = (seconds: number) =>
  seconds < 0.1 ? 'under 0.1 s' : `${seconds < 10 ? seconds.toFixed(1) : Math.round(seconds)} s`

/** How long something may still take. */
export const remaining = (seconds: number) =>
  seconds < 60 ? 'less than a minute left' : `about ${Math.round(seconds / 60)} min left`
