<script setup lang="ts">
import { useMutation } from '@tanstack/vue-query'
import { ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import FormDialog from '../../parts/form/FormDialog.vue'
import TextField from '../../parts/form/TextField.vue'

/** Leaves assignments out, with a note. */
const props = defineProps<{ link: Schemas['ScoreLink']; chosen: Schemas['Assignment'][] }>()
const emit = defineEmits<{ close: []; done: [] }>()
const why = ref('')
const leave = useMutation({
  mutationFn: () =>
    ok(
      api.PATCH('/api/v1/score-links/{id}/assignments', {
        params: { path: { id: props.link.id } },
        body: { ids: props.chosen.map((a) => a.id), leftOut: why.value },
      }),
    ),
  onSuccess: () => emit('done'),
})
</script>

<template>
  <FormDialog
    :title="$t('scores.leaveOut')"
    :submit="$t('scores.leaveOut')"
    :sending="leave.isPending.value"
    :unready="!why.trim()"
    :error="leave.error.value"
    :typed="{ why }"
    @submit="leave.mutate()"
    @close="emit('close')"
  >
    <p>{{ $t('scores.leaveOutAbout', { n: chosen.length }, chosen.length) }}</p>
    <TextField id="leave-out-why" v-model="why" name="reason" :label="$t('common.why')" maxlength="500" />
  </FormDialog>
</template>
