import { $t } from '../../texts'

/** Says in a few words what a browser says of itself; the whole of it where that is not understood. */
export function browser(agent: string): string {
  const name = /Edg|OPR|Firefox|Chrome|Safari/.exec(agent)?.[0]
  const on = /Windows|Android|iPhone|iPad|Mac OS X|Linux/.exec(agent)?.[0]
  const known = { Edg: $t('mine.edge'), OPR: $t('mine.opera') }[name ?? ''] ?? name
  if (known && on) return $t('mine.browserOn', { known, on: on === 'Mac OS X' ? 'macOS' : on })
  return agent || $t('mine.browserUnknown')
}
