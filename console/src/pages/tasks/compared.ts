import type { Schemas } from '../../api/client'
import { $t } from '../../texts'

/** What is attached to a task that a teacher handed on. */
interface Compared {
  detail?: string
  remedy?: string
  class?: string
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
