import { $t } from '../texts'
const outcomes: Record<string, [one: string, many: string]> = {
  'needs-person': [$t('common.needsPerson'), $t('parts.needPerson')],
  'not-arrived': [$t('parts.sentNotThere'), $t('parts.sentNotThere')],
}

/** An outcome in words, for one person or for several. */
export function outcome(name: string, n = 1): string {
  return outcomes[name]?.[n === 1 ? 0 : 1] ?? name.replaceAll('-', ' ')
}

/** What can have become of people in a run, in the order in which it is told. */
const results = [
  'added',
  'updated',
  'removed',
  'refused',
  'not-arrived',
  'left-for-later',
  'needs-person',
  'waiting',
  'left-out',
  'in-step',
]

/** What became of people, in words. */
export function became(did: Record<string, number>): string {
  return results
    .filter((k) => did[k])
    .map((k) => `${did[k]} ${outcome(k, did[k])}`)
    .join(', ')
}

/** The state of a delivery in a word: what was reverted reads so. */
export function deliveryState(d: { state: string; reverted?: boolean; undoes?: string }) {
  if (d.reverted) return 'reverted'
  return d.undoes && d.state === 'delivered' ? 'reverts-another' : d.state
}
