import type { QueryClient } from '@tanstack/vue-query'
import type { RouteLocationRaw } from 'vue-router'

import { api, ok } from '../api/client'
import * as find from '../parts/find'
import { $t } from '../texts'
import { seenBy } from './areas'
import { may, mayAll } from './may'

/** Something that was found, with where it leads; a remark leads nowhere. */
export interface Hit {
  label: string
  apart?: string
  to?: RouteLocationRaw
}

/** What was found of one sort. */
export interface Hits {
  title: string
  items: Hit[]
}

/** How many of one sort are shown. */
const few = 6

const fits = (text: string, ...in_: (string | undefined)[]) => {
  const all = in_.join(' ').toLowerCase()
  return text
    .toLowerCase()
    .split(/\s+/)
    .every((word) => all.includes(word))
}

function cut(items: Hit[], total = items.length): Hit[] {
  const shown = items.slice(0, few)
  if (total > shown.length)
    shown.push({ label: $t('shell.moreFitTypeMoreOf', { total: total - shown.length }) })
  return shown
}

/** The pages that fit a text. */
export function pages(text: string): Hit[] {
  return seenBy(may, mayAll).flatMap((a) =>
    a.pages
      .filter((p) => fits(text, p.title, p.also, a.title))
      .map((p) => ({ label: p.title, apart: a.pages.length > 1 ? a.title : undefined, to: p.to })),
  )
}

/** Looks for a text among pages, people, sections, courses, rules and connections. Where it could
 * not be looked, that is said. */
export async function anything(text: string, queries: QueryClient): Promise<Hits[]> {
  const kept = <T>(key: string, get: () => Promise<T>) =>
    queries.fetchQuery({ queryKey: [key], queryFn: get, staleTime: 15_000 })
  const sorts: [title: string, look: () => Promise<Hit[]>][] = [
    [$t('shell.pages'), () => Promise.resolve(cut(pages(text)))],
  ]
  if (text.trim().length >= 2) {
    sorts.push(
      [$t('common.people'), () => people(text)],
      [$t('common.sections'), () => sections(text)],
      [$t('shell.courses'), () => courses(text)],
    )
  }
  if (text.trim().length >= 2 && mayAll('look')) {
    sorts.push(
      [
        $t('shell.rules'),
        async () => {
          const all = await kept('rules', () => ok(api.GET('/api/v1/rules')))
          return cut(
            all.items
              .filter((r) => fits(text, r.name))
              .map((r) => ({ label: r.name, apart: r.on ? 'on' : 'off', to: `/rules/${r.id}` })),
          )
        },
      ],
      [
        $t('shell.connections'),
        async () => {
          const all = await kept('connections', () => ok(api.GET('/api/v1/connections')))
          return cut(
            all.items
              .filter((c) => fits(text, c.name, c.owner, ...c.interfaces.map((i) => i.name)))
              .map((c) => ({ label: c.name, apart: c.owner, to: `/connections/${c.id}` })),
          )
        },
      ],
    )
  }
  const found = await Promise.allSettled(sorts.map(([, look]) => look()))
  return found
    .map((f, i) => ({
      title: sorts[i]![0],
      items: f.status === 'fulfilled' ? f.value : [{ label: $t('shell.couldNotBeLookedFor') }],
    }))
    .filter((g) => g.items.length)
}

async function people(text: string): Promise<Hit[]> {
  const { items, total } = await find.people(text, few)
  return cut(
    items.map((p) => ({ ...p, to: `/people/${p.id}` })),
    total,
  )
}

async function sections(text: string): Promise<Hit[]> {
  const page = await ok(api.GET('/api/v1/sections', { params: { query: { text, limit: few, hidden: '*' } } }))
  return cut(
    page.items.map((s) => {
      const { label, apart } = find.named(s)
      return s.pairingId
        ? {
            label,
            apart: $t('shell.at', { apart, target: s.target, interface: s.interface }),
            to: `/pairings/${s.pairingId}`,
          }
        : { label, apart, to: { path: '/sections', query: { pair: s.id, hidden: '*' } } }
    }),
    page.total,
  )
}

async function courses(text: string): Promise<Hit[]> {
  const page = await ok(api.GET('/api/v1/courses', { params: { query: { text, limit: few } } }))
  return cut(
    page.items.map((c) => ({ label: c.title, apart: c.code, to: `/outlines/${c.id}` })),
    page.total,
  )
}
