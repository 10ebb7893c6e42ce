import type { Schemas } from '../../api/client'

/** What can happen with a score, in the order in which it is shown. */
export const outcomes = [
  'conflict',
  'refused',
  'withdrawn',
  'new',
  'update',
  'replace',
  'held',
  'kept',
  'unchanged',
  'book-only',
] as const

export type Outcome = (typeof outcomes)[number]

/** What needs a person. */
export const urgent: readonly string[] = ['conflict', 'refused', 'withdrawn']

/** What a run would write. */
export const writes: readonly string[] = ['new', 'update', 'replace']

export const changes = (counts: Record<string, number>) => writes.reduce((n, o) => n + (counts[o] ?? 0), 0)

/** A line of a preview: one person's score of one assignment. */
export interface Line extends Record<string, unknown> {
  id: string
  item: Schemas['ScoreItemPlan']
  entry: Schemas['ScoreEntry']
  title: string
  section: string
  name: string
}

/** Every score of a preview as a line of its own, what needs a person first. */
export const linesOf = (p: Schemas['ScorePreview']): Line[] =>
  p.items
    .flatMap((item) =>
      item.entries.map((entry) => ({
        id: `${item.id}/${entry.who}`,
        item,
        entry,
        title: item.title,
        section: item.section,
        name: entry.name,
      })),
    )
    .sort((a, b) => outcomes.indexOf(a.entry.outcome) - outcomes.indexOf(b.entry.outcome))

/** Whether an assignment can be carried. */
export const ready = (a: Schemas['Assignment']) => a.outcome === 'made' || a.outcome === 'linked'
