/** One value that somebody else changed while it was being edited. */
export interface Conflict {
  path: string
  was: string
  theirs: string
  yours: string
}

const text = (x: unknown) =>
  x === undefined || x === null || x === '' ? '–' : typeof x === 'string' ? x : JSON.stringify(x)

/** Two values say the same when one is missing and the other empty. */
const empty = (x: unknown): boolean =>
  x === undefined ||
  x === null ||
  x === '' ||
  x === false ||
  x === 0 ||
  (typeof x === 'object' && Object.values(x).every(empty))

function same(a: unknown, b: unknown): boolean {
  if (empty(a) && empty(b)) return true
  if (typeof a !== 'object' || typeof b !== 'object' || !a || !b) return a === b
  const keys = new Set([...Object.keys(a), ...Object.keys(b)])
  return [...keys].every((k) => same((a as Record<string, unknown>)[k], (b as Record<string, unknown>)[k]))
}

/** What is different between how a record was when editing began and how it is now, beside what
 * was typed. Only what the form holds is looked at. */
export function conflicts(was: unknown, now: unknown, typed: unknown, path = ''): Conflict[] {
  if (same(was, now)) return []
  const object = (x: unknown): x is Record<string, unknown> => typeof x === 'object' && x !== null
  if ([was, now, typed].every((x) => object(x) || empty(x)) && object(typed)) {
    const keys = new Set([...Object.keys(was ?? {}), ...Object.keys(typed)])
    if (Array.isArray(typed) && Array.isArray(now)) now.forEach((_, i) => keys.add(String(i)))
    return [...keys].flatMap((k) =>
      conflicts(
        (was as Record<string, unknown>)?.[k],
        (now as Record<string, unknown>)?.[k],
        typed[k],
        Array.isArray(typed) ? `${path}[${k}]` : path ? `${path}.${k}` : k,
      ),
    )
  }
  return [{ path, was: text(was), theirs: text(now), yours: text(typed) }]
}

/** A path as people count: actions[0].subject is “actions 1, subject”. */
export const spoken = (path: string) =>
  path
    .replace(/\[(\d+)\]/g, (_, n: string) => ` ${Number(n) + 1}`)
    .split('.')
    .map((p) => p.replace(/([a-z])([A-Z])/g, (_, a: string, b: string) => `${a} ${b.toLowerCase()}`))
    .join(', ')
