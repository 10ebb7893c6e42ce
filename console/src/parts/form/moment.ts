/** What a moment is told by. */
export type Precision = 'date' | 'time' | 'date-time'

const two = (n: number) => String(n).padStart(2, '0')

/** Reads 2027-09-01; null for what is no day. */
export function fromDate(text: string): Date | null {
  const m = /^(\d{4})-(\d{2})-(\d{2})$/.exec(text)
  if (!m) return null
  const at = new Date(Number(m[1]), Number(m[2]) - 1, Number(m[3]))
  // 31 February is no day, and not the third of March.
  return at.getDate() === Number(m[3]) && at.getMonth() === Number(m[2]) - 1 ? at : null
}

/** Writes a day in the reader's zone as 2027-09-01. */
export const dateText = (at: Date) =>
  `${String(at.getFullYear()).padStart(4, '0')}-${two(at.getMonth() + 1)}-${two(at.getDate())}`

/** Reads a time of day as people write it: 6:30, 06:30, 0630, 6.30, 6:30 pm, 6 pm. It is empty for
 * nothing, and undefined for what is none. */
export function timeOf(text: string): string | undefined {
  const t = text.trim().toLowerCase()
  if (!t) return ''
  const m = /^(\d{1,2})(?:[:.h]?([0-5]\d))?\s*(am|pm|a\.m\.|p\.m\.)?$/.exec(t)
  if (!m || (m[2] === undefined && !m[3])) return undefined
  let hour = Number(m[1])
  const half = m[3]?.[0]
  if (half) {
    if (hour < 1 || hour > 12) return undefined
    hour = (hour % 12) + (half === 'p' ? 12 : 0)
  }
  return hour > 23 ? undefined : `${two(hour)}:${m[2] ?? '00'}`
}

/** How the reader's language writes a date, in the letters of the date field: dd/mm/yy. */
export function datePattern(language?: string): string {
  const parts = new Intl.DateTimeFormat(language, {
    day: '2-digit',
    month: '2-digit',
    year: 'numeric',
  }).formatToParts(new Date(2027, 10, 22))
  const letters: Partial<Record<Intl.DateTimeFormatPartTypes, string>> = {
    day: 'dd',
    month: 'mm',
    year: 'yy',
  }
  return parts.map((p) => letters[p.type] ?? p.value.replace(/[^\d./ -]/g, '')).join('')
}
