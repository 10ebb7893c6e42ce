import { createI18n } from 'vue-i18n'

import en from './en.json'

type Messages = typeof en

/** The catalogues of other languages, each loaded only for those who read it. */
const others = import.meta.glob<Messages>(['./*.json', '!./en.json'], { import: 'default' })

/** Everything that the console says, by its key. What a catalogue does not have is said in English. */
export const i18n = createI18n<[Messages], string, false>({
  legacy: false,
  locale: 'en',
  fallbackLocale: 'en',
  messages: { en },
})

/** The first of somebody's languages for which there is a catalogue. */
export function spoken(wanted: readonly string[], known: string[]): string {
  for (const language of wanted) {
    const found = known.find((k) => k === language) ?? known.find((k) => k === language.split('-')[0])
    if (found) return found
  }
  return 'en'
}

const locale = spoken(globalThis.navigator?.languages ?? [], [
  'en',
  ...Object.keys(others).map((file) => file.slice(2, -5)),
])
if (locale !== 'en') {
  i18n.global.setLocaleMessage(locale as 'en', await others[`./${locale}.json`]!())
  i18n.global.locale.value = locale as 'en'
}

/**
 * A text of the catalogue, with its values. Where it has two forms, the number
 * given last says which: one, or many.
 */
export const $t = i18n.global.t
