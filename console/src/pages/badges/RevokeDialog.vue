<script setup lang="ts">
import { useMutation, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import AreaField from '../../parts/form/AreaField.vue'
import Frame from '../../parts/form/Frame.vue'
import Oops from '../../parts/Oops.vue'

const props = defineProps<{ award: Schemas['Award']; suspends?: boolean }>()
const emit = defineEmits<{ close: [] }>()
const queries = useQueryClient()
const reason = ref('')
const revoke = useMutation({
  mutationFn: () => {
    const sent = { params: { path: { id: props.award.id } }, body: { reason: reason.value } }
    return ok(
      props.suspends
        ? api.POST('/api/v1/awards/{id}/suspend', sent)
        : api.POST('/api/v1/awards/{id}/revoke', sent),
    )
  },
  onSuccess: async () => {
    emit('close')
    await queries.invalidateQueries()
  },
})
</script>

<template>
  <Frame
    :of="revoke"
    :title="
      suspends
        ? $t('badges.suspendOf', { badge: award.badge, person: award.person })
        : $t('badges.revokeOf', { badge: award.badge, person: award.person })
    "
    width="32rem"
    @close="emit('close')"
  >
    <form @submit.prevent="revoke.mutate()">
      <p>{{ suspends ? $t('badges.untilRestored') : $t('badges.fromNowOnWhoeverChecks') }}</p>
      <AreaField
        id="reason"
        v-model="reason"
        name="reason"
        autofocus
        :rows="2"
        :label="$t('common.why')"
        :help="$t('badges.everybodyWhoOpensBadgeCan')"
      />
      <Oops :error="revoke.error.value" />
      <div class="actions">
        <Button
          type="submit"
          severity="danger"
          :label="suspends ? $t('badges.suspendLabel') : $t('badges.revokeLabel')"
          :loading="revoke.isPending.value"
        />
        <Button type="button" variant="text" :label="$t('common.cancel')" @click="emit('close')" />
      </div>
    </form>
  </Frame>
</template>
