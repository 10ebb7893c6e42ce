<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { reactive, ref, watch } from 'vue'

import { api, ok } from '../../api/client'
import AreaField from '../../parts/form/AreaField.vue'
import Frame from '../../parts/form/Frame.vue'
import TextField from '../../parts/form/TextField.vue'
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
  <Frame :of="save" :title="$t('badges.makeBadge')" width="32rem" @close="emit('close')">
    <form @submit.prevent="save.mutate()">
      <TextField id="badge-name" v-model="badge.name" name="name" autofocus :label="$t('common.name')" />
      <TextField
        id="issuer"
        v-model="issuer"
        name="issuerId"
        :label="$t('badges.issuer')"
        :help="$t('badges.newNameMakesNewIssuer')"
      />
      <AreaField
        id="description"
        v-model="badge.description"
        name="description"
        :rows="2"
        :label="$t('badges.whatItIsFor')"
      />
      <AreaField
        id="criteria"
        v-model="badge.criteria"
        name="criteria"
        :rows="2"
        :label="$t('badges.whatItTakes')"
      />
      <Oops :error="save.error.value" />
      <div class="actions">
        <Button type="submit" :label="$t('badges.make')" :loading="save.isPending.value" />
        <Button type="button" variant="text" :label="$t('common.cancel')" @click="emit('close')" />
      </div>
    </form>
  </Frame>
</template>
