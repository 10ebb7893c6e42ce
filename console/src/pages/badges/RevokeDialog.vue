<script setup lang="ts">
import { useMutation, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import Textarea from 'primevue/textarea'
import { ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
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
  <Dialog
    visible
    modal
    :header="`Revoke ${award.badge} of ${award.person}`"
    :style="{ width: '32rem' }"
    @update:visible="emit('close')"
  >
    <form @submit.prevent="revoke.mutate()">
      <p>
        From now on whoever checks this badge sees that it was revoked, and why. The badge can be awarded
        anew, and a mistake can be mended.
      </p>
      <div class="field">
        <label for="reason">Why</label>
        <Textarea id="reason" v-model="reason" rows="2" autofocus />
        <small>Everybody who opens the badge can read this.</small>
      </div>
      <Oops :error="revoke.error.value" />
      <div class="actions">
        <Button type="submit" severity="danger" label="Revoke" :loading="revoke.isPending.value" />
        <Button type="button" variant="text" label="Cancel" @click="emit('close')" />
      </div>
    </form>
  </Dialog>
</template>
