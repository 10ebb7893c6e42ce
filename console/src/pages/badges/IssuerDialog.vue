<script setup lang="ts">
import { useMutation, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { reactive, ref } from 'vue'

import { api, asItIs, ok, type Schemas } from '../../api/client'
import { here } from '../../parts/address'
import AreaField from '../../parts/form/AreaField.vue'
import FileField from '../../parts/form/FileField.vue'
import FormDialog from '../../parts/form/FormDialog.vue'
import TextField from '../../parts/form/TextField.vue'
import { letGo } from '../../parts/form/typed'
import Oops from '../../parts/Oops.vue'

/** What an issuer says of itself. */
const props = defineProps<{ issuer: Schemas['Issuer'] }>()
const emit = defineEmits<{ close: [] }>()
const queries = useQueryClient()
const says = reactive({
  name: props.issuer.name,
  url: props.issuer.url ?? '',
  email: props.issuer.email ?? '',
  description: props.issuer.description ?? '',
  terms: props.issuer.terms ?? '',
})
const picture = ref(props.issuer.picture)
const params = { path: { id: props.issuer.id } }
const give = useMutation({
  mutationFn: async (file?: File) => {
    if (!file) {
      await ok(api.DELETE('/api/v1/issuers/{id}/picture', { params }))
      return undefined
    }
    const now = await ok(
      api.PUT('/api/v1/issuers/{id}/picture', {
        params,
        ...asItIs(file),
      }),
    )
    return now.picture
  },
  onSuccess: (now) => {
    picture.value = now
    return queries.invalidateQueries({ queryKey: ['issuers'] })
  },
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
    <AreaField
      id="issuer-terms"
      v-model="says.terms"
      name="terms"
      :rows="2"
      :label="$t('badges.terms')"
      :help="$t('badges.termsHelp')"
    />
    <p v-if="picture"><img :src="here(picture)" alt="" class="picture" /></p>
    <FileField
      :label="$t('badges.issuerPicture')"
      accept=".png,.svg"
      :help="$t('badges.pictureBounds')"
      @choose="([file]) => file && give.mutate(file)"
    />
    <Button
      v-if="picture"
      type="button"
      size="small"
      variant="text"
      :label="$t('badges.noPicture')"
      @click="give.mutate(undefined)"
    />
    <Oops :error="give.error.value" />
  </FormDialog>
</template>

<style scoped>
.picture {
  width: 6rem;
  height: 6rem;
  object-fit: contain;
}
</style>
