import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'

import { api, asItIs, ok, type Schemas } from '../../api/client'
import { $t } from '../../texts'

/** What interfaces may speak, and the values that each kind asks for. */
export const useKinds = () =>
  useQuery({ queryKey: ['kinds'], queryFn: () => ok(api.GET('/api/v1/kinds')), staleTime: Infinity })

/** Every interface that was not removed. */
export const useInterfaces = () =>
  useQuery({ queryKey: ['interfaces'], queryFn: () => ok(api.GET('/api/v1/interfaces')) })

/** Whether it is at a service that keeps classes. */
export const keepsClasses = (i: Schemas['Interface']) => i.kind === 'scim'

/** The interfaces at services that keep classes; undefined while that is not known. */
export function useServices() {
  const all = useInterfaces()
  return computed(() => all.data.value?.items.filter(keepsClasses))
}

/** Gives a package to a register of files, which is read at once. */
export const uploadPackage = (id: string, file: File, approved = false) =>
  ok(
    api.POST('/api/v1/interfaces/{id}/upload', {
      params: { path: { id }, query: { approved } },
      ...asItIs(file, 'application/zip'),
    }),
  )

/**
 * The values that are sent: those of the kind's own fields. An empty one was not entered, unless it is taken
 * out: then it is sent as empty.
 */
export function valuesOf(
  kind: Schemas['Kind'] | undefined,
  values: Record<string, string>,
  takenOut: (name: string) => boolean = () => false,
) {
  const own = new Set(kind?.fields.map((f) => f.name))
  return Object.fromEntries(
    Object.entries(values).filter(([name, v]) => own.has(name) && (v !== '' || takenOut(name))),
  )
}

/** What rests there now: the service itself, or single operations of it. */
export const resting = (i: Schemas['Interface']) =>
  i.rests.filter((r) => r.until && new Date(r.until) > new Date())

const order = [
  'unreachable',
  'broken',
  'wrong-credential',
  'not-allowed',
  'nothing-there',
  'not-enabled',
  'unproven',
]

/** The state of the capability that is worst off; 'untested' when none was tested. */
export function worst(i: Schemas['Interface']): string {
  if (!i.probe.length) return 'untested'
  return order.find((state) => i.probe.some((r) => r.state === state)) ?? 'works'
}

/** Whether the other side said that it gives nothing as the interface is now. */
export const refused = (i: Schemas['Interface']) =>
  i.probe.some((r) => ['wrong-credential', 'not-allowed', 'not-enabled', 'nothing-there'].includes(r.state))

/** Capabilities in words. */
export const capabilities: Record<string, string> = {
  'people-in': $t('connections.peopleIn'),
  'people-out': $t('connections.peopleOut'),
  'learning-events-in': $t('connections.learningEventsIn'),
  'events-in': $t('connections.eventsIn'),
  'messages-out': $t('connections.messagesOut'),
  'scores-in': $t('connections.scoresIn'),
  'scores-out': $t('connections.scoresOut'),
  'course-pages': $t('connections.coursePagesIn'),
}
