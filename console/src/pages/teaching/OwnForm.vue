<script setup lang="ts">
import { useMutation, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { ref } from 'vue'

import { api, asItIs, ok, type Schemas } from '../../api/client'
import FileField from '../../parts/form/FileField.vue'
import FormDialog from '../../parts/form/FormDialog.vue'
import TextField from '../../parts/form/TextField.vue'
import { letGo } from '../../parts/form/typed'

/** What a teacher calls a section, and its picture: seen by that teacher only. */
const props = defineProps<{ section: Schemas['TaughtSection'] }>()
const emit = defineEmits<{ close: [] }>()
const queries = useQueryClient()
const params = { path: { id: props.section.own } }
const shortName = ref(props.section.shortName ?? '')
function done() {
  letGo()
  void queries.invalidateQueries({ queryKey: ['teaching'] })
  emit('close')
}
const save = useMutation({
  mutationFn: () =>
    ok(api.PUT('/api/v1/teaching/{id}/name', { params, body: { shortName: shortName.value } })),
  onSuccess: done,
})
const picture = useMutation({
  mutationFn: (file?: File): Promise<unknown> =>
    file
      ? ok(api.PUT('/api/v1/teaching/{id}/picture', { params, ...asItIs(file) }))
      : ok(api.DELETE('/api/v1/teaching/{id}/picture', { params })),
  onSuccess: done,
})
</script>

<template>
  <FormDialog
    :title="$t('teaching.nameAndPictureOf', { name: section.title })"
    :submit="$t('common.save')"
    :sending="save.isPending.value || picture.isPending.value"
    :error="save.error.value ?? picture.error.value"
    :typed="shortName"
    @submit="save.mutate()"
    @close="emit('close')"
  >
    <p class="faint">{{ $t('teaching.onlyYou') }}</p>
    <TextField
      id="own-name"
      v-model="shortName"
      :label="$t('teaching.shortName')"
      :help="$t('teaching.shortNameHelp')"
    />
    <FileField
      id="own-picture"
      :label="$t('teaching.picture')"
      :help="$t('teaching.pictureHelp')"
      accept="image/png,image/jpeg,image/gif"
      :button="$t('teaching.choosePicture')"
      @choose="(files) => picture.mutate(files[0])"
    />
    <Button
      v-if="section.picture"
      size="small"
      variant="text"
      :label="$t('teaching.dropPicture')"
      @click="picture.mutate(undefined)"
    />
  </FormDialog>
</template>
