import { describe, expect, it } from 'vitest'

import { conflicts, spoken } from '../src/parts/form/conflict'

const was = { name: 'A', days: 3, actions: [{ kind: 'task', subject: 'One' }], undoneBy: ['x'] }

describe('what the other changed', () => {
  it('is nothing when they changed nothing, whatever was typed', () => {
    expect(conflicts(was, { ...was }, { ...was, name: 'Mine' })).toEqual([])
  })
  it('is shown beside what was and what was typed', () => {
    const now = { ...was, name: 'Theirs', actions: [{ kind: 'task', subject: 'Two' }] }
    expect(conflicts(was, now, { ...was, name: 'Mine' })).toEqual([
      { path: 'name', was: 'A', theirs: 'Theirs', yours: 'Mine' },
      { path: 'actions[0].subject', was: 'One', theirs: 'Two', yours: 'One' },
    ])
  })
  it('shows what they added to a list and what they took from it', () => {
    const more = { ...was, actions: [...was.actions, { kind: 'mail', subject: 'Three' }] }
    expect(conflicts(was, more, was).map((c) => c.path)).toEqual(['actions[1]'])
    expect(conflicts(was, { ...was, undoneBy: [] }, was)).toEqual([
      { path: 'undoneBy[0]', was: 'x', theirs: '–', yours: 'x' },
    ])
  })
  it('does not tell empty from missing', () => {
    expect(conflicts({ ...was, stop: '' }, was, { ...was, stop: '' })).toEqual([])
    expect(
      conflicts({ limit: { most: undefined, per: 'day' } }, { limit: { per: 'day' } }, { limit: {} }),
    ).toEqual([])
  })
  it('looks only at what the form holds', () => {
    expect(conflicts(was, { ...was, fired: 9 }, was)).toEqual([])
  })
})

it('is spoken as people count', () => {
  expect(spoken('actions[0].subject')).toBe('actions 1, subject')
  expect(spoken('quietHours.from')).toBe('quiet hours, from')
})
