import { ref } from 'vue'

/** What whoever is signed in may do, by their role. While that is not known, everything is shown. */
export const acts = ref<string[]>()

/** Whether they may do something. */
export const may = (act: string) => acts.value?.includes(act) ?? true
