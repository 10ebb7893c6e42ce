/** The pages on which records are shown, by the kind that the audit trail gives them. */
const pages: Record<string, string> = {
  connection: '/connections/',
  pairing: '/pairings/',
  person: '/people/',
  proof: '/proofs/',
  rule: '/rules/',
  run: '/runs/',
  batch: '/batches/',
  'score-link': '/scores/',
}

/** The page of what an entry is about; none where it has no page of its own. */
export function pageOfSubject(subject: string): string | undefined {
  const at = subject.indexOf('/')
  const kind = subject.slice(0, Math.max(at, 0))
  const page = Object.hasOwn(pages, kind) ? pages[kind] : undefined
  return page && page + subject.slice(at + 1)
}

/** What an entry says beside its words, as a person reads it: "name: Otto, roles: support". */
export function detailText(detail: unknown): string {
  if (detail === null || detail === undefined || detail === '') return ''
  if (Array.isArray(detail)) return detail.map(inner).join(', ')
  if (typeof detail !== 'object') return String(detail)
  return Object.entries(detail)
    .filter(([, v]) => inner(v) !== '')
    .map(([k, v]) => `${k.replace(/[A-Z]/g, (c) => ' ' + c.toLowerCase())}: ${inner(v)}`)
    .join(', ')
}

const inner = (v: unknown): string => {
  const text = detailText(v)
  return text && typeof v === 'object' && !Array.isArray(v) ? `(${text})` : text
}
