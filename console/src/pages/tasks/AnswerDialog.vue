<script setup lang="ts">
import { useMutation, useQueryClient } from '@tanstack/vue-query'
import { ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import AreaField from '../../parts/form/AreaField.vue'
import FormDialog from '../../parts/form/FormDialog.vue'
import { letGo } from '../../parts/form/typed'

/** Marks as done what a teacher handed on, and answers them. */
const props = defineProps<{ task: Schemas['Task'] }>()
const emit = defineEmits<{ close: [] }>()
const queries = useQueryClient()
const answer = ref('')
const done = useMutation({
  mutationFn: () =>
    ok(
      api.POST('/api/v1/tasks/{id}/done', {
        params: { path: { id: props.task.id } },
        body: { answer: answer.value },
      }),
    ),
  onSuccess: () => {
    letGo()
    void queries.invalidateQueries({ queryKey: ['tasks'] })
    emit('close')
  },
})
</script>

<template>
  <FormDialog
    :title="$t('tasks.answerTo', { who: task.asker })"
    :submit="$t('common.done')"
    :sending="done.isPending.value"
    :error="done.error.value"
    :typed="answer"
    @submit="done.mutate()"
    @close="emit('close')"
  >
    <p>{{ task.title }}</p>
    <p v-if="task.detail" class="faint">{{ task.detail }}</p>
    <AreaField id="task-answer" v-model="answer" :label="$t('tasks.answer')" :help="$t('tasks.answerHelp')" />
  </FormDialog>
</template>
