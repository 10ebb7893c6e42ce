<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'

import { api, ok } from '../../api/client'
import Oops from '../../parts/Oops.vue'
import { when } from '../../parts/when'
import { $t } from '../../texts'

/** Says when the progress that reports count by was found to be otherwise than recorded, and counts it anew. */
const queries = useQueryClient()
const check = useQuery({
  queryKey: ['progress-check'],
  queryFn: () => ok(api.GET('/api/v1/progress-check')),
  refetchInterval: (q) => (q.state.data?.startedAt ? 2_000 : false),
})
const recount = useMutation({
  mutationFn: () => ok(api.POST('/api/v1/progress-check', { body: { mend: true } })),
  onSettled: () => queries.invalidateQueries({ queryKey: ['progress-check'] }),
})
</script>

<template>
  <p v-if="check.data.value?.wrong && !check.data.value.mended" role="alert">
    {{
      $t('reports.miscounted', {
        n: check.data.value.wrong,
        of: check.data.value.checked,
        at: when(check.data.value.endedAt),
      })
    }}
    <Button
      size="small"
      :label="$t('reports.recount')"
      :loading="recount.isPending.value || !!check.data.value.startedAt"
      @click="recount.mutate()"
    />
  </p>
  <Oops :error="recount.error.value" />
</template>
