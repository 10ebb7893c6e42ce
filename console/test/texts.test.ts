import ts from 'typescript'
import { expect, it } from 'vitest'

import { $t, add, i18n, spoken, type Texts } from '../src/texts'

const english: Record<string, string> = {}
for (const rooms of Object.values(
  import.meta.glob<Texts>('../src/texts/en/*.json', { eager: true, import: 'default' }),
)) {
  for (const [room, texts] of Object.entries(rooms)) {
    for (const [key, text] of Object.entries(texts)) english[`${room}.${key}`] = text
  }
}
const sources = import.meta.glob<string>(
  ['../src/**/*.{vue,ts}', '!../src/api/schema.d.ts', '!../src/texts/**'],
  { eager: true, query: '?raw', import: 'default' },
)
const valuesOf = (text: string) => new Set([...text.matchAll(/\{(\w+)\}/g)].map((m) => m[1]!))

/** A text that is asked for, with the names of the values that it is given. */
interface Use {
  file: string
  key: string
  given: Set<string>
}

function calls(file: string, code: string, uses: Use[]) {
  const [statement] = ts.createSourceFile('x.ts', code, ts.ScriptTarget.Latest, true).statements
  const call = statement && ts.isExpressionStatement(statement) ? statement.expression : undefined
  const [key, values] = call && ts.isCallExpression(call) ? call.arguments : []
  if (!key || !ts.isStringLiteral(key)) return // one that is put together
  const given = values && ts.isObjectLiteralExpression(values) ? values.properties : []
  uses.push({ file, key: key.text, given: new Set(given.map((p) => p.name!.getText())) })
}

/** What a call is, from its name to the end of its brackets. */
function callAt(text: string): string {
  let depth = 0
  for (let i = text.indexOf('('); i < text.length; i++) {
    if (text[i] === '(') depth++
    if (text[i] === ')' && --depth === 0) return text.slice(0, i + 1)
  }
  return text
}

const uses: Use[] = []
for (const [file, text] of Object.entries(sources)) {
  for (const m of text.matchAll(/\$t\(/g)) calls(file, callAt(text.slice(m.index)), uses)
  for (const m of text.matchAll(/<i18n-t\s+keypath="([^"]+)"(.*?)<\/i18n-t/gs)) {
    uses.push({ file, key: m[1]!, given: new Set([...m[2]!.matchAll(/ #(\w+)/g)].map((s) => s[1]!)) })
  }
}

/** The texts that a script holds itself: words in a row, or one that begins like a sentence. */
function raw(file: string, text: string): string[] {
  const script = file.endsWith('.vue') ? (text.match(/<script setup[^>]*>(.*?)<\/script>/s)?.[1] ?? '') : text
  const found: string[] = []
  const visit = (n: ts.Node) => {
    if (ts.isImportDeclaration(n) || ts.isTypeNode(n)) return
    const said =
      ts.isStringLiteralLike(n) || ts.isTemplateHead(n) || ts.isTemplateMiddle(n) || ts.isTemplateTail(n)
    if (said && /[A-Za-z]{2,} [a-z]{2,}|^[A-Z][a-z]+$/.test(n.text)) found.push(`${file}: ${n.text}`)
    ts.forEachChild(n, visit)
  }
  visit(ts.createSourceFile('x.ts', script, ts.ScriptTarget.Latest, true))
  return found
}

it('has no text outside the catalogue', () => {
  // Names of the product and of keys, and codes of the service.
  const names = ['Kanban', 'Escape', 'Tab', 'Shift', 'Enter', 'Control', 'not begun', 'not submitted']
  const found = Object.entries(sources)
    .filter(([file]) => !/theme\.ts|plain\.ts/.test(file))
    .flatMap(([file, text]) => raw(file, text))
    .filter((text) => !names.includes(text.split(': ')[1]!))
  expect(found).toEqual([])
})

it('gives every text the values that it names, and no others', () => {
  expect(uses.length).toBeGreaterThan(1000)
  for (const { file, key, given } of uses) {
    expect(english[key], `${file}: ${key}`).toBeDefined()
    expect([...given].sort(), `${file}: ${key}`).toEqual([...valuesOf(english[key]!)].sort())
  }
})

it('says one and many', () => {
  add('en', { test: { people: '{n} person | {n} people' } })
  expect($t('test.people', { n: 1 }, 1)).toBe('1 person')
  expect($t('test.people', { n: 2 }, 2)).toBe('2 people')
  expect($t('test.people', { n: 0 }, 0)).toBe('0 people')
})

it('says in English what a language does not have', () => {
  add('en', { test: { here: 'here', there: 'there' } })
  add('fr', { test: { here: 'ici' } })
  i18n.global.locale.value = 'fr'
  expect([$t('test.here'), $t('test.there')]).toEqual(['ici', 'there'])
  i18n.global.locale.value = 'en'
})

it.each([
  [['fr-CA', 'de'], ['en', 'de', 'fr'], 'fr'],
  [['pt-BR'], ['en', 'pt', 'pt-BR'], 'pt-BR'],
  [['nl', 'en-GB', 'de'], ['en', 'de'], 'en'],
  [['nl'], ['en', 'de'], 'en'],
  [[], ['en', 'de'], 'en'],
])('of %j and %j speaks %s', (wanted, known, language) => {
  expect(spoken(wanted, known)).toBe(language)
})
