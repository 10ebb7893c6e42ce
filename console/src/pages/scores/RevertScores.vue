<script setup lang="ts">
import { useMutation, useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed } from 'vue'
import { useRouter } from 'vue-router'

import { api, ok } from '../../api/client'
import Frame from '../../parts/form/Frame.vue'
import { letGo } from '../../parts/form/typed'
import Oops from '../../parts/Oops.vue'
import Lines from './Lines.vue'
import { linesOf } from './scores'

/** Shows how the effect of a run on the book would be undone, and does it when asked. */
const props = defineProps<{ runId: string }>()
const emit = defineEmits<{ close: [] }>()
const router = useRouter()
const preview = useQuery({
  queryKey: ['revert-scores', () => props.runId],
  queryFn: () => ok(api.POST('/api/v1/runs/{id}/revert-scores', { params: { path: { id: props.runId } } })),
  staleTime: Infinity,
  gcTime: 0,
  retry: false,
  refetchOnWindowFocus: false,
})
const p = computed(() => preview.data.value)
const run = useMutation({
  mutationFn: () =>
    ok(api.POST('/api/v1/score-previews/{id}/run', { params: { path: { id: p.value!.id } }, body: {} })),
  onSuccess: (r) => {
    emit('close')
    letGo()
    return router.push(`/runs/${r.id}`)
  },
})
</script>

<template>
  <Frame v-slot="{ close }" :of="run" :title="$t('scores.revertRun')" width="56rem" @close="emit('close')">
    <p>{{ $t('scores.revertAbout') }}</p>
    <Oops :error="preview.error.value ?? run.error.value" />
    <template v-if="p">
      <Lines :lines="linesOf(p)" :codes="p.codes" :empty="$t('scores.noScoreFits')" />
      <div class="actions end">
        <Button
          :label="
            p.changes ? $t('scores.revertScores', { n: p.changes }, p.changes) : $t('scores.nothingToRevert')
          "
          :disabled="!p.changes"
          :loading="run.isPending.value"
          @click="run.mutate()"
        />
        <Button variant="text" :label="$t('common.cancel')" @click="close" />
      </div>
    </template>
  </Frame>
</template>

<style scoped>
.end {
  margin-top: 1rem;
}
</style>
