import { expect, test } from 'vitest'

import { detailText, pageOfSubject } from '../src/pages/settings/audit'

test('details read as words, whatever they hold', () => {
  expect(detailText({ name: 'Otto', roles: ['support', 'reader'], empty: '', none: null, on: false })).toBe(
    'name: Otto, roles: support, reader, on: false',
  )
  expect(
    detailText({ clientId: 'x', mappings: [{ claim: 'groups', value: 1 }], deep: { a: { b: 2 } } }),
  ).toBe('client id: x, mappings: (claim: groups, value: 1), deep: (a: (b: 2))')
  expect(detailText(null)).toBe('')
  expect(detailText({})).toBe('')
  expect(detailText('plain')).toBe('plain')
  expect(detailText([1, 'two', {}])).toBe('1, two, ')
})

test('records lead to their pages', () => {
  expect(pageOfSubject('run/7')).toBe('/runs/7')
  expect(pageOfSubject('rule/x/y')).toBe('/rules/x/y')
  expect(pageOfSubject('token/7')).toBeUndefined()
  expect(pageOfSubject('pairing')).toBeUndefined()
  expect(pageOfSubject('constructor/x')).toBeUndefined()
})
