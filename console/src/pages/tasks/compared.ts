import type { Schemas } from '../../api/client'
import { $t } from '../../texts'

/** What is attached to a task that a teacher handed on. */
interface Compared {
  detail?: string
  remedy?: string
  class?: string
  pairingId?: string
  register?: { givenName: string; familyName: string; email: string; userName: string; identifier: string }
}

/** The comparison that is attached to a task, line by line; none where there is none. */
export function compared(t: Schemas['Task']): string[] {
  const about = t.about as Compared | undefined
  if (!about) return []
  const r = about.register
  const has = r && [
    `${r.givenName} ${r.familyName}`,
    r.identifier,
    r.userName,
    r.email || $t('people.noEMailAddress'),
  ]
  return [
    has && $t('tasks.register', { has: has.filter(Boolean).join(' · ') }),
    about.class && $t('tasks.class', { name: about.class, detail: about.detail ? ` (${about.detail})` : '' }),
    about.remedy && $t('tasks.remedy', { remedy: about.remedy }),
  ].filter((x) => !!x) as string[]
}

/** The page on which both sides can be compared anew; none where a task is about no class. */
export const bothSides = (t: Schemas['Task']) => {
  const id = (t.about as Compared | undefined)?.pairingId
  return id && `/pairings/${id}/compare`
}
