import { expect, it } from 'vitest'

import { remaining, secondsLeft } from '../src/pages/pairings/run'

const began = '2026-11-30T10:00:00Z'
const after = (seconds: number) => new Date(began).getTime() + seconds * 1000

it.each([
  [10, 5, 20, 30],
  [60, 100, 150, 30],
  [10, 0, 20, undefined], // nothing is done yet
  [2, 1, 20, undefined], // too early to tell
  [10, 20, 20, undefined], // all is done
])('after %d s with %d of %d done: %d s more', (gone, done, all, left) => {
  expect(secondsLeft(began, done, all, after(gone))).toBe(left)
})

it('says no time of what has not begun', () => {
  expect(secondsLeft(undefined, 5, 20)).toBeUndefined()
})

it.each([
  [12, 'less than a minute left'],
  [100, 'about 2 min left'],
])('says %d s as %s', (seconds, text) => {
  expect(remaining(seconds)).toBe(text)
})
