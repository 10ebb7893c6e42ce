<script setup lang="ts">
import { useMutation, useQueryClient } from '@tanstack/vue-query'
import { ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import AreaField from '../../parts/form/AreaField.vue'
import FormDialog from '../../parts/form/FormDialog.vue'
import { letGo } from '../../parts/form/typed'

/** Hands to whoever can mend it that somebody is not in the class. */
const props = defineProps<{ section: Schemas['TaughtSectionPage']; person: Schemas['MissingPerson'] }>()
const emit = defineEmits<{ close: [] }>()
const queries = useQueryClient()
const note = ref('')
const send = useMutation({
  mutationFn: () =>
    ok(
      api.POST('/api/v1/teaching/{id}/handed', {
        params: { path: { id: props.section.own } },
        body: { personId: props.person.personId!, note: note.value },
      }),
    ),
  onSuccess: () => {
    letGo()
    void queries.invalidateQueries({ queryKey: ['teaching'] })
    void queries.invalidateQueries({ queryKey: ['tasks'] })
    emit('close')
  },
})
</script>

<template>
  <FormDialog
    :title="$t('teaching.handOnNamed', { name: person.name })"
    :submit="$t('teaching.handIt')"
    :sending="send.isPending.value"
    :error="send.error.value"
    :typed="note"
    @submit="send.mutate()"
    @close="emit('close')"
  >
    <p>{{ person.says }}</p>
    <p class="faint">{{ $t('teaching.handAbout', { owner: person.ask }) }}</p>
    <AreaField id="hand-note" v-model="note" :label="$t('teaching.note')" />
  </FormDialog>
</template>
