<script setup lang="ts">
import { useMutation, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, reactive } from 'vue'

import { api, ok, Problem, type Schemas } from '../../api/client'
import { useVersion } from '../../parts/draft'
import Frame from '../../parts/form/Frame.vue'
import Oops from '../../parts/Oops.vue'
import { drafted, sent } from './system'
import SystemFields from './SystemFields.vue'

/** Changes what holds for all interfaces of a connection. */
const props = defineProps<{ connection: Schemas['Connection'] }>()
const emit = defineEmits<{ close: [] }>()
const queries = useQueryClient()
const from = useVersion(props.connection.version)
const draft = reactive(drafted(props.connection))
const save = useMutation({
  mutationFn: () =>
    ok(
      api.PATCH('/api/v1/connections/{id}', {
        params: { path: { id: props.connection.id }, header: from.header.value },
        body: sent(draft),
      }),
    ),
  onSuccess: () => {
    void queries.invalidateQueries()
    emit('close')
  },
})
const wrong = computed(() => (save.error.value instanceof Problem ? save.error.value.fields : {}))
</script>

<template>
  <Frame
    :of="save"
    :title="$t('common.editName', { name: connection.name })"
    width="36rem"
    @close="emit('close')"
  >
    <form @submit.prevent="save.mutate()">
      <SystemFields v-model="draft" :wrong="wrong" />
      <Oops :error="save.error.value" :over="(tag) => (from.over(tag), save.mutate())" />
      <div class="actions">
        <Button type="submit" :label="$t('common.save')" :loading="save.isPending.value" />
        <Button type="button" variant="text" :label="$t('common.cancel')" @click="emit('close')" />
      </div>
    </form>
  </Frame>
</template>
