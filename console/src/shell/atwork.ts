import { api, ok, type Schemas } from '../api/client'
import { titleOf } from '../pages/batches/acts'
import { titleOf as titleOfRun } from '../pages/pairings/run'
import { became } from '../parts/words'
import { $t } from '../texts'
import { mayAll } from './may'

/** A run or batch that has not ended. */
export interface Work {
  id: string
  sort: 'run' | 'batch'
  to: string
  title: string
  /** How far it is, in words. */
  state: string
  /** Who started it. */
  by: string
  secondsLeft?: number
}

/** How many are looked at. */
const most = 100

function farOf(r: Schemas['Run']): string {
  if (r.state === 'queued') return $t('shell.queued')
  const of = r.kind === 'read' ? $t('shell.records') : $t('shell.people')
  if (r.total) return $t('shell.of', { done: r.done, total: r.total, of })
  return r.done ? `${r.done} ${of}` : (r.step ?? $t('shell.atWorkWord'))
}

/** Everything that is at work, the newest first; what belongs to a batch is shown as the batch. */
export async function atWork(): Promise<{ items: Work[]; more: boolean }> {
  const [runs, batches] = await Promise.all([
    ok(api.GET('/api/v1/runs', { params: { query: { active: true, single: true, limit: most } } })),
    mayAll('look')
      ? ok(api.GET('/api/v1/batches', { params: { query: { limit: most } } }))
      : { items: [], next: undefined },
  ])
  const items = [
    ...batches.items
      .filter((b) => b.left || b.active)
      .map((b) => ({
        id: b.id,
        sort: 'batch' as const,
        to: `/batches/${b.id}`,
        title: titleOf(b.act),
        state: b.left
          ? $t('shell.ofClasses', { items: b.items - b.left, items2: b.items })
          : $t('shell.ofRunsHaveEnded', { runs: b.runs - b.active, runs2: b.runs }),
        by: b.madeBy,
      })),
    ...runs.items.map((r) => ({
      id: r.id,
      sort: 'run' as const,
      to: `/runs/${r.id}`,
      title: titleOfRun(r),
      state: farOf(r),
      by: r.requestedBy,
      secondsLeft: r.secondsLeft,
    })),
  ]
  return { items, more: !!runs.next }
}

/** What is said of something that has ended. */
export interface Said {
  severity: 'success' | 'warn' | 'error'
  summary: string
  detail?: string
  to: string
}

/** What became of something that was at work; nothing while that cannot be seen. */
export async function ended(w: Work): Promise<Said | undefined> {
  const path = { params: { path: { id: w.id } } }
  try {
    if (w.sort === 'batch') {
      const b = await ok(api.GET('/api/v1/batches/{id}', path))
      const bad = b.blocked || b.items.some((i) => i.problem)
      return {
        severity: bad ? 'warn' : 'success',
        summary: $t('shell.hasEnded', { title: w.title }),
        detail: became(b.did) || undefined,
        to: w.to,
      }
    }
    const r = await ok(api.GET('/api/v1/runs/{id}', path))
    if (!r.finishedAt) return undefined
    const { title } = w
    const words: Record<string, string> = {
      'needs-person': $t('shell.needsPerson', { title }),
      moved: $t('shell.didNothingThingsHaveChanged', { title }),
      failed: $t('shell.hasFailed', { title }),
      cancelled: $t('shell.wasStopped', { title }),
    }
    return {
      severity: r.state === 'finished' ? 'success' : r.state === 'failed' ? 'error' : 'warn',
      summary: words[r.state] ?? $t('shell.hasEnded', { title }),
      detail: r.error || became(r.counts) || undefined,
      to: w.to,
    }
  } catch {
    return undefined // the page itself says that the service does not answer
  }
}
