<script setup lang="ts">
import { useMutation, useQueryClient } from '@tanstack/vue-query'

import { api, asItIs, ok } from '../../api/client'
import { refresh } from '../../api/live'
import FileField from '../../parts/form/FileField.vue'
import Oops from '../../parts/Oops.vue'

/** A gradebook that gives and takes files: a package is uploaded, and one for the book downloaded. */
const props = defineProps<{ id: string; name: string; book?: boolean }>()
const queries = useQueryClient()
const upload = useMutation({
  mutationFn: (file: File) =>
    ok(
      api.POST('/api/v1/interfaces/{id}/gradebook/upload', {
        params: { path: { id: props.id } },
        ...asItIs(file, 'application/zip'),
      }),
    ),
  onSuccess: () => refresh(queries, 'scoreLink'),
})
</script>

<template>
  <div class="file">
    <FileField
      hidden
      :label="$t('scores.uploadFor', { name })"
      accept=".zip"
      :button="upload.isPending.value ? $t('scores.uploading') : $t('scores.upload')"
      :disabled="upload.isPending.value"
      @choose="([file]) => file && upload.mutate(file)"
    />
    <a v-if="book" :href="`/api/v1/interfaces/${id}/gradebook.zip`">{{ $t('scores.downloadForBook') }}</a>
    <span v-if="upload.data.value" role="status">{{
      $t('scores.packageRead', { n: upload.data.value.unread }, upload.data.value.unread)
    }}</span>
  </div>
  <Oops :error="upload.error.value" />
</template>

<style scoped>
.file {
  display: flex;
  gap: 0.8rem;
  align-items: center;
  margin-top: 0.3rem;
}
</style>
