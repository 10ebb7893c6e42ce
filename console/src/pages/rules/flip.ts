import { useMutation, useQueryClient } from '@tanstack/vue-query'
import { ref } from 'vue'

import { api, ifMatch, ok, Problem, type Schemas } from '../../api/client'

type Rule = Schemas['Rule']

/** Switches rules on and off. What one that goes off has still to come is asked about, and so
 * is one that goes on and was not tried out. */
export function useFlip() {
  const queries = useQueryClient()
  const asking = ref<{ rule: Rule; message: string; untried: boolean }>()
  const flip = useMutation({
    mutationFn: ({ rule, toCome, untried }: { rule: Rule; toCome?: 'stop' | 'finish'; untried?: boolean }) =>
      ok(
        api.POST('/api/v1/rules/{id}/switch', {
          params: { path: { id: rule.id }, header: ifMatch(rule.version) },
          body: { on: !rule.on, toCome, untried },
        }),
      ),
    onMutate: () => {
      asking.value = undefined
    },
    onError: (error, { rule }) => {
      const code = error instanceof Problem ? error.fields.code : ''
      if (code === 'deliveries-still-to-come' || code === 'rule-not-tried') {
        asking.value = { rule, message: error.message, untried: code === 'rule-not-tried' }
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
