import { useMutation, useQueryClient } from '@tanstack/vue-query'
import { ref } from 'vue'

import { api, ifMatch, ok, Problem, type Schemas } from '../../api/client'

type Rule = Schemas['Rule']
type Consent = Pick<Schemas['Switch'], 'untried' | 'circle'>

/** Switches rules on and off. What one that goes off has still to come is asked about, and so
 * is one that goes on and was not tried out, or would set itself off again. */
export function useFlip() {
  const queries = useQueryClient()
  const asking = ref<{ rule: Rule; message: string; consent?: Consent }>()
  const flip = useMutation({
    mutationFn: ({ rule, toCome, consent }: { rule: Rule; toCome?: 'stop' | 'finish'; consent?: Consent }) =>
      ok(
        api.POST('/api/v1/rules/{id}/switch', {
          params: { path: { id: rule.id }, header: ifMatch(rule.version) },
          body: { on: !rule.on, toCome, ...consent },
        }),
      ),
    onMutate: () => {
      asking.value = undefined
    },
    onError: (error, { rule, consent }) => {
      const asks: Record<string, Consent | undefined> = {
        'deliveries-still-to-come': undefined,
        'rule-not-tried': { ...consent, untried: true },
        'rules-in-a-circle': { ...consent, circle: true },
      }
      const code = (error instanceof Problem && error.fields.code) || ''
      if (code in asks) asking.value = { rule, message: error.message, consent: asks[code] }
    },
    onSettled: () => queries.invalidateQueries({ queryKey: ['rules'] }),
  })
  const leave = () => {
    asking.value = undefined
    flip.reset()
  }
  return { flip, asking, leave }
}
