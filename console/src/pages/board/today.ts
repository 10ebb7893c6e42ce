import { useQuery } from '@tanstack/vue-query'

import { api, ok } from '../../api/client'

/** What needs a person today, the most harmful first. */
export const useToday = () => useQuery({ queryKey: ['today'], queryFn: () => ok(api.GET('/api/v1/today')) })
