import { describe, expect, it } from 'vitest'

import type { Schemas } from '../src/api/client'
import { accessSteps, firstSteps, ruleSteps } from '../src/pages/start/steps'

const one = { id: 'i', connectionId: 'c', name: 'Platform', probedAt: '2026-11-30', probe: [] } as unknown
const able = (capability: string) => (had: string[]) =>
  had.includes(capability) ? [one as Schemas['Interface']] : []
const having =
  (...had: string[]) =>
  (capability: string) =>
    able(capability)(had)
/** Which steps are done, and where the first that is not leads. */
const told = (steps: ReturnType<typeof firstSteps>) => [
  steps.map((s) => (s.done ? 'x' : '-')).join(''),
  steps.find((s) => !s.done)?.to,
]

describe('steps lead from what is there to what is next', () => {
  it('to the first class that was run', () => {
    const known = { interfaces: [], sections: 0, paired: 0, ran: 0 }
    expect(told(firstSteps({ ...known, able: having() }))).toEqual(['-----', '/connections/new'])
    expect(told(firstSteps({ ...known, able: having('people-in') }))).toEqual(['x----', '/connections/c'])
    expect(told(firstSteps({ ...known, able: having('people-in'), sections: 3 }))).toEqual([
      'xx---',
      '/connections/new?kind=scim',
    ])
  })

  it('to the first thing that follows from progress', () => {
    const known = { outlines: 0, badges: 0, rules: 0, on: 0, delivered: false }
    expect(told(ruleSteps({ ...known, able: having() }))).toEqual(['-----', '/connections/new?kind=xapi'])
    expect(told(ruleSteps({ ...known, able: having('learning-events-in') }))).toEqual(['x----', '/outlines'])
    const all = { outlines: 1, badges: 1, rules: 2, on: 1, delivered: false }
    expect(told(ruleSteps({ ...all, able: having('learning-events-in') }))).toEqual(['xxxx-', '/deliveries'])
  })

  it('to the first who has access', () => {
    const known = { offers: 0, on: 0, people: 0 }
    expect(told(accessSteps({ ...known, able: having() }))).toEqual([
      '---',
      '/connections/new?kind=cloudevents',
    ])
    expect(told(accessSteps({ able: having('events-in'), offers: 1, on: 1, people: 4 }))).toEqual([
      'xxx',
      undefined,
    ])
  })

  it('and says what was found', () => {
    const [first] = firstSteps({ interfaces: [], able: having('people-in'), sections: 0, paired: 0, ran: 0 })
    expect(first!.check).toBe('Platform: tested, works.')
    const steps = ruleSteps({ able: having(), outlines: 2, badges: 1, rules: 1, on: 0, delivered: false })
    expect(steps.map((s) => s.check)).toEqual([
      'No course platform is connected.',
      '2 courses have an outline.',
      '1 badge is made.',
      'No rule is on.',
      'Nothing was delivered yet.',
    ])
  })
})
