<script setup lang="ts">
import { useMutation, useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { useRouter } from 'vue-router'

import { api, ok } from '../../api/client'
import Counts from '../../parts/Counts.vue'
import Frame from '../../parts/form/Frame.vue'
import { letGo } from '../../parts/form/typed'
import Oops from '../../parts/Oops.vue'
import People from './People.vue'

/** Shows how the effect of a run would be undone, and does it when asked. */
const props = defineProps<{ runId: string }>()
const emit = defineEmits<{ close: [] }>()
const router = useRouter()
const preview = useQuery({
  queryKey: ['revert', () => props.runId],
  queryFn: () => ok(api.POST('/api/v1/runs/{id}/revert', { params: { path: { id: props.runId } } })),
  staleTime: Infinity,
  gcTime: 0,
  retry: false,
  refetchOnWindowFocus: false,
})
const run = useMutation({
  mutationFn: () => ok(api.POST('/api/v1/runs', { body: { previewId: preview.data.value!.id } })),
  onSuccess: (r) => {
    emit('close')
    letGo()
    return router.push(`/runs/${r.id}`)
  },
})
</script>

<template>
  <Frame :of="run" :title="$t('pairings.revertThisRun')" width="46rem" @close="emit('close')">
    <p>{{ $t('pairings.whatRunDidIsUndone') }}</p>
    <Oops :error="preview.error.value ?? run.error.value" />
    <template v-if="preview.data.value">
      <Counts :counts="preview.data.value.counts" />
      <People
        :people="preview.data.value.entries.map((e) => ({ entry: e, state: e.outcome }))"
        :loading="false"
        :error="null"
      />
      <div class="actions end">
        <Button
          :label="
            preview.data.value.changes
              ? $t('pairings.revert', { changes: preview.data.value.changes })
              : $t('pairings.nothingIsLeftToRevert')
          "
          :disabled="!preview.data.value.changes"
          :loading="run.isPending.value"
          @click="run.mutate()"
        />
      </div>
    </template>
  </Frame>
</template>

<style scoped>
.end {
  margin-top: 1rem;
}
</style>
