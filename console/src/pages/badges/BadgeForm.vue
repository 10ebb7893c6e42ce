<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import Textarea from 'primevue/textarea'
import { reactive, ref, watch } from 'vue'

import { api, ok } from '../../api/client'
import Oops from '../../parts/Oops.vue'

const emit = defineEmits<{ close: [] }>()
const queries = useQueryClient()
const issuers = useQuery({ queryKey: ['issuers'], queryFn: () => ok(api.GET('/api/v1/issuers')) })
const issuer = ref('')
watch(
  () => issuers.data.value?.items[0]?.name,
  (name) => (issuer.value ||= name ?? ''),
  { immediate: true },
)
const badge = reactive({ name: '', description: '', criteria: '' })

const save = useMutation({
  mutationFn: async () => {
    const wanted = issuer.value.trim()
    const known = issuers.data.value?.items.find((i) => i.name.toLowerCase() === wanted.toLowerCase())
    const { id } = known ?? (await ok(api.POST('/api/v1/issuers', { body: { name: wanted } })))
    try {
      return await ok(api.POST('/api/v1/badges', { body: { issuerId: id, ...badge } }))
    } catch (e) {
      // An issuer that was made for it is not left behind.
      if (!known) await ok(api.DELETE('/api/v1/issuers/{id}', { params: { path: { id } } }))
      throw e
    }
  },
  onSuccess: async () => {
    await queries.invalidateQueries({ queryKey: ['badges'] })
    emit('close')
  },
})
</script>

<template>
  <Dialog
    :visible="true"
    modal
    header="Make a badge"
    :style="{ width: '32rem' }"
    @update:visible="emit('close')"
  >
    <form @submit.prevent="save.mutate()">
      <div class="field">
        <label for="badge-name">Name</label>
        <InputText id="badge-name" v-model="badge.name" autofocus />
      </div>
      <div class="field">
        <label for="issuer">Issuer</label>
        <InputText id="issuer" v-model="issuer" />
        <small>A new name makes a new issuer, with a signing key of its own.</small>
      </div>
      <div class="field">
        <label for="description">What it is for</label>
        <Textarea id="description" v-model="badge.description" rows="2" />
      </div>
      <div class="field">
        <label for="criteria">What it takes</label>
        <Textarea id="criteria" v-model="badge.criteria" rows="2" />
      </div>
      <Oops :error="save.error.value" />
      <div class="actions">
        <Button type="submit" label="Make" :loading="save.isPending.value" />
        <Button type="button" variant="text" label="Cancel" @click="emit('close')" />
      </div>
    </form>
  </Dialog>
</template>
