import { api, ok } from '../api/client'

/** Finds people by name, address or identifier. */
export async function people(text: string) {
  const page = await ok(api.GET('/api/v1/people', { params: { query: { text, limit: 12 } } }))
  return page.items.map((p) => ({ id: p.id, label: p.identifier ? `${p.name} · ${p.identifier}` : p.name }))
}

/** Finds sections by title, code, course or teacher, whatever lists leave aside. */
export async function sections(text: string) {
  const page = await ok(api.GET('/api/v1/sections', { params: { query: { text, limit: 12, aside: '*' } } }))
  return page.items.map((s) => ({ id: s.id, label: s.code ? `${s.title} · ${s.code}` : s.title }))
}
