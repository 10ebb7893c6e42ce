import { computed, ref, shallowRef, watch, type Ref } from 'vue'

import { ifMatch, tagOf } from '../api/client'

const copy = <T>(x: T) => JSON.parse(JSON.stringify(x)) as T

/** A copy of a record, to be edited. It follows the record until somebody has changed the
 * copy; from then on it stays as it was typed, and says from which state it was made. The
 * record's query must not share structure. */
export function useDraft<T extends object>(record: Ref<T | undefined>) {
  const draft = ref<T>() as Ref<T | undefined>
  const base = shallowRef<T>()
  const overwritten = ref('')
  const changed = computed(() => JSON.stringify(draft.value) !== JSON.stringify(base.value))
  function take(now: T) {
    base.value = now
    draft.value = copy(now)
    overwritten.value = ''
  }
  watch(record, (now) => now && !changed.value && take(now), { immediate: true })
  return {
    draft,
    changed,
    header: computed(() => ifMatch(overwritten.value || tagOf(base.value))),
    /** What was typed is what is kept now; the record is followed again. */
    kept: () => (base.value = draft.value && copy(draft.value)),
    /** Puts what was typed over the state with an ETag. */
    over: (tag: string) => (overwritten.value = tag),
  }
}

/** The version from which a form was made when it was opened, whatever comes in later. */
export function useVersion(version: number | undefined) {
  const tag = ref<string | number | undefined>(version)
  return { header: computed(() => ifMatch(tag.value)), over: (now: string) => (tag.value = now) }
}
