import { useQuery } from '@tanstack/vue-query'
import { computed, type Ref } from 'vue'

import { api, type Schemas } from '../api/client'

/** The outline of a course, and its activities with those that are nested in others. */
export function useOutline(course: Ref<string | undefined>) {
  const outline = useQuery({
    queryKey: ['outline', course],
    queryFn: async () => {
      const params = { path: { id: course.value ?? '' } }
      const { data } = await api.GET('/api/v1/courses/{id}/outline', { params })
      return data ?? ({ modules: [] } as Schemas['Outline'])
    },
    enabled: computed(() => !!course.value),
  })
  const modules = computed(() => outline.data.value?.modules ?? [])
  const within = (list: Schemas['Activity'][]): Schemas['Activity'][] =>
    list.flatMap((a) => [a, ...within(a.activities ?? [])])
  const activitiesOf = (module?: string) =>
    modules.value.filter((m) => !module || m.id === module).flatMap((m) => within(m.activities))
  return { outline, modules, activitiesOf }
}
