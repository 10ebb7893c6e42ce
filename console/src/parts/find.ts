import { api, ok, Problem, type Schemas } from '../api/client'

/** What was found; `apart` tells it from another one with the same label. */
export interface Found {
  id: string
  label: string
  apart?: string
}

/** The first of what was found, and how many there are. */
export interface Finds {
  items: Found[]
  total: number
}

/** What a person is called, and which register has them. */
const called = (p: Schemas['Person']): Found => ({
  id: p.id,
  label: p.identifier ? `${p.name} · ${p.identifier}` : p.name,
  apart: p.register,
})

/** Finds people by name, address or identifier. */
export async function people(text: string, limit = 12): Promise<Finds> {
  const page = await ok(api.GET('/api/v1/people', { params: { query: { text, limit } } }))
  return {
    total: page.total ?? page.items.length,
    items: page.items.map(called),
  }
}

/** Finds one person by id; nothing when nobody has it. */
export async function person(id: string) {
  try {
    return called(await ok(api.GET('/api/v1/people/{id}', { params: { path: { id } } })))
  } catch (e) {
    if (e instanceof Problem && e.status === 404) return undefined
    throw e
  }
}

/** What a section is called, and what tells it from another one of that name. */
export const named = (s: Schemas['Section']) => ({
  id: s.id,
  label: s.code ? `${s.title} · ${s.code}` : s.title,
  apart: [s.terms?.join(', '), s.organisation, s.teachers?.join(', ')].filter(Boolean).join(' · '),
})

/** Finds sections of the register by title, code, course or teacher, whatever lists hide. */
export async function sections(text: string): Promise<Finds> {
  const page = await ok(api.GET('/api/v1/sections', { params: { query: { text, limit: 20, hidden: '*' } } }))
  const items = page.items.filter((s) => !s.list)
  return { items: items.map(named), total: page.total - (page.items.length - items.length) }
}

/** Finds one section by its id; nothing when it is gone. */
export async function section(id: string) {
  const page = await ok(
    api.GET('/api/v1/sections', { params: { query: { called: id, limit: 2, hidden: '*' } } }),
  )
  const one = page.items.find((s) => s.id === id) ?? (page.items.length === 1 ? page.items[0] : undefined)
  return one && { ...named(one), id }
}

/** Finds courses by title or code. */
export async function courses(text: string): Promise<Finds> {
  const page = await ok(api.GET('/api/v1/courses', { params: { query: { text, limit: 20 } } }))
  return {
    total: page.total ?? page.items.length,
    items: page.items.map((c) => ({ id: c.id, label: c.code ? `${c.title} · ${c.code}` : c.title })),
  }
}
