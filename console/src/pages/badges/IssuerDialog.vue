<script setup lang="ts">
import { useMutation, useQueryClient } from '@tanstack/vue-query'
import { reactive } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import AreaField from '../../parts/form/AreaField.vue'
import FormDialog from '../../parts/form/FormDialog.vue'
import TextField from '../../parts/form/TextField.vue'
import { letGo } from '../../parts/form/typed'

/** What an issuer says of itself. */
const props = defineProps<{ issuer: Schemas['Issuer'] }>()
const emit = defineEmits<{ close: [] }>()
const queries = useQueryClient()
const says = reactive({
  name: props.issuer.name,
  url: props.issuer.url ?? '',
  email: props.issuer.email ?? '',
  description: props.issuer.description ?? '',
})
const save = useMutation({
  mutationFn: () =>
    ok(api.PUT('/api/v1/issuers/{id}', { params: { path: { id: props.issuer.id } }, body: { ...says } })),
  onSuccess: async () => {
    await queries.invalidateQueries({ queryKey: ['issuers'] })
    letGo()
    emit('close')
  },
})
</script>

<template>
  <FormDialog
    :title="$t('badges.changeIssuer', { name: issuer.name })"
    :submit="$t('common.save')"
    :sending="save.isPending.value"
    :error="save.error.value"
    :typed="says"
    @submit="save.mutate()"
    @close="emit('close')"
  >
    <p class="faint">{{ $t('badges.changeIssuerAbout') }}</p>
    <TextField id="issuer-name" v-model="says.name" name="name" :label="$t('common.name')" />
    <TextField id="issuer-url" v-model="says.url" name="url" :label="$t('badges.site')" />
    <TextField id="issuer-email" v-model="says.email" name="email" :label="$t('badges.contact')" />
    <AreaField
      id="issuer-about"
      v-model="says.description"
      name="description"
      :rows="2"
      :label="$t('badges.whatItIs')"
    />
  </FormDialog>
</template>
