import type { Schemas } from '../../api/client'
import { $t } from '../../texts'

/** What a read or a run is called, wherever it is named. */
export function titleOf(r: Schemas['Run']): string {
  if (r.kind === 'read') return $t('pairings.reading', { about: r.about })
  const { about } = r
  if (r.kind === 'scores') return r.reverts ? $t('pairings.reverting', { about }) : about
  if (r.ends) return $t('pairings.ending', { about })
  return r.reverts ? $t('pairings.reverting', { about }) : $t('pairings.runOf', { about })
}

/** How long something took. */
export const lasted = (seconds: number) =>
  seconds < 0.1 ? $t('pairings.underATenth') : `${seconds < 10 ? seconds.toFixed(1) : Math.round(seconds)} s`

/** How many seconds something may still take that began at a moment and has done so many of all;
 * nothing while too little is done to tell. */
export function secondsLeft(began: string | undefined, done: number, all: number, now = Date.now()) {
  const gone = began ? (now - new Date(began).getTime()) / 1000 : 0
  return gone < 5 || done <= 0 || done >= all ? undefined : (gone / done) * (all - done)
}

/** How long something may still take. */
export const remaining = (seconds: number) =>
  seconds < 60
    ? $t('pairings.lessThanMinuteLeft')
    : $t('pairings.aboutMinLeft', { seconds: Math.round(seconds / 60) })
