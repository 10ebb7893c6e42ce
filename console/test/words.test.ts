import { expect, it } from 'vitest'

import { became, deliveryState, word } from '../src/parts/words'

it('says outcomes for one and for several', () => {
  expect(word('needs-person')).toBe('needs a person')
  expect(word('needs-person', 2)).toBe('need a person')
  expect(word('in-step', 7)).toBe('in step')
})

it('counts everybody of a run, and nobody twice', () => {
  expect(became({ added: 3, refused: 1, 'in-step': 0 })).toBe('3 added, 1 refused')
  expect(became({})).toBe('')
})

it('calls what was reverted so', () => {
  expect(deliveryState({ state: 'delivered', reverted: true })).toBe('reverted')
  expect(deliveryState({ state: 'delivered', undoes: 'x' })).toBe('reverts-another')
  expect(deliveryState({ state: 'waiting', undoes: 'x' })).toBe('waiting')
})
