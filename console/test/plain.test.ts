/// <reference types="vite/client" />
import { describe, expect, it } from 'vitest'

import findings from '../../docs/findings.md?raw'
import { plain, plainly } from '../src/api/plain'

describe('a text of the service in a browser', () => {
  it.each([
    ['Run it: kanban pairings run', 'Run it'],
    [
      'by hand; whoever starts it can change that (kanban serve --read-every 15m)',
      'by hand; whoever starts it can change that',
    ],
    ['Try it: kanban rules try "A: b, c". Or not.', 'Try it. Or not.'],
    ['Make it anew (kanban pairings renew), or end the pairing.', 'Make it anew, or end the pairing.'],
    [
      'Enter it: kanban interfaces edit NAME --set expires=YYYY-MM-DD. It is tested.',
      'Enter it. It is tested.',
    ],
    [
      'Whose it is, under Access (kanban offers accesses --ids, then kanban offers assign ID PERSON).',
      'Whose it is, under Access.',
    ],
    ['Upload a package: kanban interfaces read "R" --file package.zip', 'Upload a package'],
    ['The kanban board is full', 'The kanban board is full'],
    ['She said: kanban is a board that moves', 'She said: kanban is a board that moves'],
  ])('%s', (said, shown) => expect(plain(said)).toBe(shown))

  it('names no command in any finding', () => {
    const texts = findings.split('\n').filter((t) => t.includes('Remedy'))
    expect(texts.filter((t) => t.includes('kanban ')).length).toBeGreaterThan(10)
    for (const t of texts) expect(plain(t)).not.toMatch(/kanban [a-z]+ /)
  })
})

describe('an answer', () => {
  it('keeps what people wrote themselves', () => {
    const said = {
      name: 'A: kanban rules try',
      findings: [{ remedy: 'Do it: kanban tasks done.', subject: 'x: kanban a' }],
    }
    expect(plainly(said)).toEqual({
      name: 'A: kanban rules try',
      findings: [{ remedy: 'Do it.', subject: 'x: kanban a' }],
    })
  })
})
