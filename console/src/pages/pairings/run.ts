import type { Schemas } from '../../api/client'
import { $t } from '../../texts'

/** What a read or a run is called, wherever it is named. */
export function titleOf(r: Schemas['Run']): string {
  if (r.kind === 'read') return $t('pairings.reading', { about: r.about })
  return `${r.ends ? $t('pairings.ending') : r.reverts ? $t('pairings.reverting') : $t('pairings.runOf')} ${r.about}`
}

/** How long something took. */
export const lasted = (seconds: number) =>
  seconds < 0.1 ? $t('pairings.underATenth') : `${seconds < 10 ? seconds.toFixed(1) : Math.round(seconds)} s`

/** How long something may still take. */
export const remaining = (seconds: number) =>
  seconds < 60
    ? $t('pairings.lessThanMinuteLeft')
    : $t('pairings.aboutMinLeft', { seconds: Math.round(seconds / 60) })
