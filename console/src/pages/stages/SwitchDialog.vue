<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'

import { api, ok, type Schemas } from '../../api/client'
import Frame from '../../parts/form/Frame.vue'
import Oops from '../../parts/Oops.vue'
import Found from './Found.vue'

/** Switching a stage plan on, after seeing whom it finds. */
const props = defineProps<{ plan: Schemas['StagePlan'] }>()
const emit = defineEmits<{ close: [] }>()
const queries = useQueryClient()
const preview = useQuery({
  queryKey: ['stage-plan-preview', () => props.plan.id],
  queryFn: () => {
    const { name, courseId, stages, id } = props.plan
    return ok(api.POST('/api/v1/stage-plans/preview', { body: { name, courseId, stages, id } }))
  },
  gcTime: 0,
  retry: false,
})
const on = useMutation({
  mutationFn: () =>
    ok(
      api.POST('/api/v1/stage-plans/{id}/switch', {
        params: { path: { id: props.plan.id } },
        body: { on: true },
      }),
    ),
  onSuccess: async () => {
    emit('close')
    await queries.invalidateQueries()
  },
})
</script>

<template>
  <Frame
    :of="on"
    :title="$t('stages.switchOnName', { name: plan.name })"
    width="34rem"
    @close="emit('close')"
  >
    <p>{{ $t('stages.eachStageThatSomebodyReaches') }}</p>
    <Oops :error="preview.error.value ?? on.error.value" />
    <template v-if="preview.data.value">
      <Found :preview="preview.data.value" />
      <div class="actions">
        <Button :label="$t('stages.switchOnLabel')" :loading="on.isPending.value" @click="on.mutate()" />
        <Button variant="text" :label="$t('common.cancel')" @click="emit('close')" />
      </div>
    </template>
  </Frame>
</template>
