import { onBeforeUnmount, ref, watch } from 'vue'

import { $t } from '../../texts'
import { ask } from './ask'

// The forms on the page in which something is typed that is not saved.
const forms = new Set<() => boolean>()
const unsaved = () => [...forms].some((f) => f())

addEventListener('beforeunload', (e) => {
  if (unsaved()) e.preventDefault()
})

const question = {
  title: $t('form.dropWhatWasTyped'),
  text: $t('form.itIsNotSavedYet'),
  yes: $t('form.dropIt'),
  no: $t('form.goOnTyping'),
}

/** Asks before another page takes the place of one on which something is typed. */
export async function mayLeave(): Promise<boolean> {
  if (!unsaved()) return true
  const yes = await ask(question)
  if (yes) forms.clear()
  return yes
}

/** What is typed is saved, or whoever typed it has signed out: another page may take its place. */
export const letGo = () => forms.clear()

/** Asks before another page takes the place of one on which something is not saved yet. */
export function useUnsaved(is: () => boolean) {
  forms.add(is)
  onBeforeUnmount(() => forms.delete(is))
  // Who chose to drop it may type again.
  watch(is, (now) => now && forms.add(is))
}

/** Watches whether something was typed into a form: a person touched it, and it says something
 * else than before. */
export function useTyped(what: () => unknown) {
  const said = () => JSON.stringify(what())
  let before: string | undefined
  const touched = ref(false)
  const typed = () => touched.value && said() !== before
  forms.add(typed)
  onBeforeUnmount(() => forms.delete(typed))
  return {
    /** A person did something in it. */
    touch: (e: Event) => {
      if (e instanceof KeyboardEvent && ['Escape', 'Tab', 'Shift'].includes(e.key)) return
      if (!touched.value) before = said()
      touched.value = true
    },
    /** It is saved, or may be dropped. */
    let: () => (touched.value = false),
    /** Whether it may be closed. */
    mayClose: async () => !typed() || (await ask(question)),
  }
}
