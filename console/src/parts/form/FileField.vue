<script setup lang="ts">
import FileUpload, { type FileUploadSelectEvent } from 'primevue/fileupload'
import { ref } from 'vue'

import Field from './Field.vue'
import { type FieldProps, useField } from './form'

/** Chooses files, which are given at once; the same ones can be chosen again. */
const props = defineProps<FieldProps & { accept?: string; multiple?: boolean; button?: string }>()
const emit = defineEmits<{ choose: [files: File[]] }>()
const { id, frame, disabled } = useField(props)
const upload = ref<InstanceType<typeof FileUpload> & { clear: () => void }>()
function take(e: FileUploadSelectEvent) {
  const files = [...(e.files as File[])]
  upload.value?.clear()
  if (files.length) emit('choose', files)
}
</script>

<template>
  <Field v-bind="frame">
    <FileUpload
      ref="upload"
      mode="basic"
      custom-upload
      :accept="accept"
      :multiple="multiple"
      :disabled="disabled"
      :choose-label="button ?? (multiple ? $t('form.chooseFiles') : $t('form.chooseFile'))"
      :choose-button-props="{ size: 'small', variant: 'outlined', severity: undefined }"
      :pt="{ input: { 'aria-label': label, id }, root: { class: 'file' } }"
      @select="take"
    >
      <template #filelabel><span /></template>
      <template #chooseicon><span class="no-icon" /></template>
    </FileUpload>
    <template v-if="$slots.help" #help><slot name="help" /></template>
  </Field>
</template>

<style scoped>
.no-icon {
  display: none;
}
</style>
