import { createI18n } from 'vue-i18n'

/** Texts by their room and their key: one file of a language. */
export type Texts = Record<string, Record<string, string>>

/** The catalogues of other languages, loaded only for those who read them. */
const others = import.meta.glob<Texts>(['./*/*.json', '!./en/*.json'], { import: 'default' })

/** Everything that the console says, by its key. What a language does not have is said in English. */
export const i18n = createI18n<[Texts], string, false>({
  legacy: false,
  locale: 'en',
  fallbackLocale: 'en',
  messages: {},
})

/** Puts texts of a language to those that are there. */
export function add(language: string, texts: Texts) {
  i18n.global.mergeLocaleMessage(language, texts)
}

/** The first of somebody's languages for which there are texts. */
export function spoken(wanted: readonly string[], known: string[]): string {
  for (const language of wanted) {
    const found = known.find((k) => k === language) ?? known.find((k) => k === language.split('-')[0])
    if (found) return found
  }
  return 'en'
}

const languageOf = (file: string) => file.split('/')[1]!
const language = spoken(globalThis.navigator?.languages ?? [], ['en', ...Object.keys(others).map(languageOf)])
if (language !== 'en') {
  const files = Object.keys(others).filter((file) => languageOf(file) === language)
  for (const texts of await Promise.all(files.map((file) => others[file]!()))) add(language, texts)
  i18n.global.locale.value = language
  document.documentElement.lang = language
}

/**
 * A text by its room and key, with its values. Where it has two forms, the
 * number given last says which: one, or many. The texts of a room come with the
 * modules that name its keys: the build's texts.ts sees to that.
 */
export const $t = i18n.global.t
