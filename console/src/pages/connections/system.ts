import type { Schemas } from '../../api/client'

/** The details of a connection as they stand in inputs. */
export const drafted = (c?: Schemas['Connection']) => ({
  name: c?.name ?? '',
  owner: c?.owner ?? '',
  address: c?.address ?? '',
  notes: c?.notes ?? '',
  atOnce: c?.atOnce ? String(c.atOnce) : '',
  perMinute: c?.perMinute ? String(c.perMinute) : '',
  restAfter: c?.restAfter ? String(c.restAfter) : '',
})

/** The same as the service takes them. What is no number is sent as -1, which it refuses by name. */
export function sent(d: ReturnType<typeof drafted>) {
  const number = (s: string) => (s.trim() === '' ? 0 : /^\d+$/.test(s.trim()) ? Number(s) : -1)
  return { ...d, atOnce: number(d.atOnce), perMinute: number(d.perMinute), restAfter: number(d.restAfter) }
}
