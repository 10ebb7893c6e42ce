import type { InjectionKey, Ref } from 'vue'

import type { Schemas } from '../../api/client'
import { when } from '../../parts/when'

/** The id of the event for which texts of a rule are shown; empty for a made-up one. */
export const sampleEvent: InjectionKey<Ref<string>> = Symbol('sample')

/** An event named by person, what it is about, and time. */
export const named = (e: Schemas['Event']) =>
  [e.person, e.activity || e.module || e.section || e.course, when(e.recordedAt)].filter(Boolean).join(' · ')
