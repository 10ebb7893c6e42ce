import { $t, i18n } from '../texts'

/** A code of the service (a state, an outcome) in words, for one or for several. */
export function word(code: string, n = 1): string {
  return i18n.global.te(`codes.${code}`) ? $t(`codes.${code}`, n) : code.replaceAll('-', ' ')
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
    .map((k) => `${did[k]} ${word(k, did[k])}`)
    .join(', ')
}

/** The state of a delivery in a word: what was reverted reads so. */
export function deliveryState(d: { state: string; reverted?: boolean; undoes?: string }) {
  if (d.reverted) return 'reverted'
  return d.undoes && d.state === 'delivered' ? 'reverts-another' : d.state
}

/** Several in a row, as the language joins them. */
export function listed(items: string[]): string {
  return new Intl.ListFormat(i18n.global.locale.value).format(items)
}
