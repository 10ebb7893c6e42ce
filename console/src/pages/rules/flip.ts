import { useMutation, useQueryClient } from '@tanstack/vue-query'
import { ref } from 'vue'

import { api, ifMatch, ok, Problem, type Schemas } from '../../api/client'

type Rule = Schemas['Rule']

/** Switches rules on and off. What one that goes off has still to come is asked about. */
export function useFlip() {
  const queries = useQueryClient()
  const asking = ref<{ rule: Rule; message: string }>()
  const flip = useMutation({
    mutationFn: ({ rule, toCome }: { rule: Rule; toCome?: 'stop' | 'finish' }) =>
      ok(
        api.POST('/api/v1/rules/{id}/switch', {
          params: { path: { id: rule.id }, header: ifMatch(rule.version) },
          body: { on: !rule.on, toCome },
        }),
      ),
    onMutate: () => {
      asking.value = undefined
    },
    onError: (error, { rule }) => {
      if (error instanceof Problem && error.fields.code === 'deliveries-still-to-come') {
        asking.value = { rule, message: error.message }
      }
    },
    onSettled: () => queries.invalidateQueries({ queryKey: ['rules'] }),
  })
  const leave = () => {
    asking.value = undefined
    flip.reset()
  }
  return { flip, asking, leave }
}
