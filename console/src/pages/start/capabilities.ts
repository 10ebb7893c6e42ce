import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import { useInterfaces } from '../connections/interface'

/** What is connected, by what can be heard and done through it. */
export function useCapabilities() {
  const interfaces = useInterfaces()
  const kinds = useQuery({ queryKey: ['kinds'], queryFn: () => ok(api.GET('/api/v1/kinds')) })
  return {
    /** All interfaces, once what they can do is known as well. */
    interfaces: computed(() => (kinds.data.value ? interfaces.data.value?.items : undefined)),
    able(capability: string): Schemas['Interface'][] {
      const fit = new Set(
        kinds.data.value?.filter((k) => k.capabilities.includes(capability)).map((k) => k.name),
      )
      return interfaces.data.value?.items.filter((i) => fit.has(i.kind)) ?? []
    },
    error: computed(() => interfaces.error.value ?? kinds.error.value),
    again: () => (interfaces.refetch(), kinds.refetch()),
  }
}
