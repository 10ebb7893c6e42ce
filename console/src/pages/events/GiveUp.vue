<script setup lang="ts">
import { useMutation, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { ref } from 'vue'

import { api, ok } from '../../api/client'
import Frame from '../../parts/form/Frame.vue'
import TextField from '../../parts/form/TextField.vue'
import Oops from '../../parts/Oops.vue'
import { $t } from '../../texts'

/** Gives deliveries up that are still to come, with a reason. */
const props = defineProps<{
  rule?: string
  service?: string
  state?: 'planned' | 'queued' | 'retrying' | 'waiting'
  what: string
}>()
const emit = defineEmits<{ close: []; done: [told: string] }>()
const queries = useQueryClient()
const reason = ref('')
const giveUp = useMutation({
  mutationFn: () =>
    ok(
      api.POST('/api/v1/deliveries/give-up', {
        body: {
          ruleId: props.rule,
          interfaceId: props.service,
          state: props.state,
          reason: reason.value,
        },
      }),
    ),
  onSuccess: (r) => {
    void queries.invalidateQueries({ queryKey: ['deliveries'] })
    emit(
      'done',
      [
        $t('events.givenUp', { stopped: r.stopped }),
        r.underWay ? $t('events.areBeingMadeAtThis', { underWay: r.underWay }) : '',
      ].join(' '),
    )
  },
})
</script>

<template>
  <Frame :of="giveUp" :title="$t('events.giveUpDeliveries')" width="32rem" @close="emit('close')">
    <p>
      {{ $t('events.andWhatComesAfterThem', { what }) }}
    </p>
    <form @submit.prevent="giveUp.mutate()">
      <TextField
        id="reason"
        v-model="reason"
        name="reason"
        autocomplete="off"
        maxlength="500"
        :label="$t('common.why')"
      />
      <Oops :error="giveUp.error.value" />
      <div class="actions">
        <Button
          type="submit"
          size="small"
          :label="$t('events.giveThemUp')"
          :disabled="!reason.trim()"
          :loading="giveUp.isPending.value"
        />
        <Button
          type="button"
          size="small"
          variant="text"
          :label="$t('events.keepThem')"
          @click="emit('close')"
        />
      </div>
    </form>
  </Frame>
</template>
