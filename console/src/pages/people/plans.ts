import { api, ok } from '../../api/client'

/** Where a person stands in every stage plan that is on. */
export const plansOf = (person: () => string) => ({
  queryKey: ['stages', person],
  queryFn: () => ok(api.GET('/api/v1/people/{id}/stage-plans', { params: { path: { id: person() } } })),
})
