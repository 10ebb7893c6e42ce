import { useQuery } from '@tanstack/vue-query'
import { computed, type Ref } from 'vue'

import { api, ok } from '../../api/client'
import { $t } from '../../texts'

/** The gradebooks that are connected, as choices; interfaces are those that they are. */
export function useGradebooks() {
  const interfaces = useQuery({
    queryKey: ['interfaces'],
    queryFn: () => ok(api.GET('/api/v1/interfaces')),
  })
  const all = computed(() =>
    (interfaces.data.value?.items ?? []).filter((x) => x.kind.startsWith('oneroster-gradebook')),
  )
  return { interfaces, all, choices: computed(() => all.value.map((x) => ({ value: x.id, label: x.name }))) }
}

/** The classes that a gradebook has assignments of, as choices. */
export function useClasses(gradebook: Ref<string | undefined>) {
  const classes = useQuery({
    queryKey: ['score-links', 'classes', gradebook],
    queryFn: () =>
      ok(
        api.GET('/api/v1/interfaces/{id}/gradebook-classes', { params: { path: { id: gradebook.value! } } }),
      ),
    enabled: computed(() => !!gradebook.value),
  })
  const choices = computed(() =>
    (classes.data.value?.items ?? []).map((c) => ({
      value: c.id,
      label: c.title || c.id,
      apart: $t('scores.assignmentCount', { n: c.assignments }, c.assignments),
    })),
  )
  return { classes, choices }
}
