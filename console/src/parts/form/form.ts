import { computed, inject, type InjectionKey, provide, type Ref, useId } from 'vue'

import { Problem } from '../../api/client'

/** What the fields of a form are told by it: what the service said of each, by its name in the
 * request, and whether the form is just being sent. */
interface FormState {
  problems: Readonly<Ref<Record<string, string>>>
  sending: Readonly<Ref<boolean>>
}

const key: InjectionKey<FormState> = Symbol('form')

/** Tells the fields inside how the form is sent. */
export const provideForm = (error: () => Error | null | undefined, sending: () => boolean) =>
  provide(key, {
    problems: computed(() => {
      const e = error()
      return e instanceof Problem ? e.fields : {}
    }),
    sending: computed(sending),
  })

/** What every field takes. */
export interface FieldProps {
  /** Of the control; made up when absent. */
  id?: string
  label: string
  /** The label is only read aloud: for filters and tables, whose place says it. */
  hidden?: boolean
  /** One sentence below the field. */
  help?: string
  /** What is wrong with it, if the form does not know. */
  problem?: string
  /** What the service calls it, such as actions[0].subject, for what it says of it. */
  name?: string
  required?: boolean
  disabled?: boolean
}

/** What a control is given by what its field was given. */
export function useField(props: FieldProps) {
  const form = inject(key, undefined)
  const made = useId()
  const id = computed(() => props.id ?? made)
  const problem = computed(() => props.problem || (props.name && form?.problems.value[props.name]) || '')
  return {
    id,
    disabled: computed(() => props.disabled || !!form?.sending.value),
    invalid: computed(() => !!problem.value),
    /** For the component Field. */
    frame: computed(() => ({
      id: id.value,
      label: props.label,
      hidden: props.hidden,
      help: props.help,
      required: props.required,
      problem: problem.value,
    })),
    /** For the element that takes the focus. */
    aria: computed(() => ({
      'aria-label': props.hidden ? props.label : undefined,
      'aria-invalid': problem.value ? true : undefined,
      'aria-required': props.required ? true : undefined,
      'aria-describedby': props.help || problem.value ? `${id.value}-about` : undefined,
    })),
  }
}
