<script setup lang="ts">
import { useMutation, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import AreaField from '../../parts/form/AreaField.vue'
import Frame from '../../parts/form/Frame.vue'
import Oops from '../../parts/Oops.vue'

const props = defineProps<{ award: Schemas['Award'] }>()
const emit = defineEmits<{ close: [] }>()
const queries = useQueryClient()
const reason = ref('')
const revoke = useMutation({
  mutationFn: () =>
    ok(
      api.POST('/api/v1/awards/{id}/revoke', {
        params: { path: { id: props.award.id } },
        body: { reason: reason.value },
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
    :of="revoke"
    :title="`Revoke ${award.badge} of ${award.person}`"
    width="32rem"
    @close="emit('close')"
  >
    <form @submit.prevent="revoke.mutate()">
      <p>
        From now on whoever checks this badge sees that it was revoked, and why. The badge can be awarded
        anew, and a mistake can be mended.
      </p>
      <AreaField
        id="reason"
        v-model="reason"
        autofocus
        :rows="2"
        label="Why"
        help="Everybody who opens the badge can read this."
      />
      <Oops :error="revoke.error.value" />
      <div class="actions">
        <Button type="submit" severity="danger" label="Revoke" :loading="revoke.isPending.value" />
        <Button type="button" variant="text" label="Cancel" @click="emit('close')" />
      </div>
    </form>
  </Frame>
</template>
