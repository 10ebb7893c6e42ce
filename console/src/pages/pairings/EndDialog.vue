<script setup lang="ts">
import { useMutation, useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import { useRouter } from 'vue-router'

import { api, ok, type Schemas } from '../../api/client'
import Oops from '../../parts/Oops.vue'
import People from './People.vue'

/** Ends a pairing, with its people left where they are or taken out. */
const props = defineProps<{ pairing: Schemas['Pairing'] }>()
const emit = defineEmits<{ close: [] }>()
const router = useRouter()
const path = { params: { path: { id: props.pairing.id } } }
const preview = useQuery({
  queryKey: ['ending', props.pairing.id],
  queryFn: () => ok(api.POST('/api/v1/pairings/{id}/ending', path)),
  staleTime: Infinity,
  gcTime: 0,
  retry: false,
  refetchOnWindowFocus: false,
})
const keep = useMutation({
  mutationFn: () => ok(api.DELETE('/api/v1/pairings/{id}', path)),
  onSuccess: () => router.push('/sections'),
})
const remove = useMutation({
  mutationFn: () => ok(api.POST('/api/v1/runs', { body: { previewId: preview.data.value!.id } })),
  onSuccess: (r) => router.push(`/runs/${r.id}`),
})
</script>

<template>
  <Dialog
    visible
    modal
    :header="`End the pairing with ${pairing.target}`"
    :style="{ width: '46rem' }"
    @update:visible="emit('close')"
  >
    <p>
      The class at {{ pairing.section.connection }} stays. What of the people whom Kanban put into it? Whoever
      else is in it stays in any case.
    </p>
    <Oops :error="preview.error.value ?? keep.error.value ?? remove.error.value" />
    <People
      :people="preview.data.value?.entries.map((e) => ({ entry: e, state: e.outcome }))"
      :loading="preview.isLoading.value"
      :error="null"
    />
    <div class="actions end">
      <Button label="End it, people stay" :loading="keep.isPending.value" @click="keep.mutate()" />
      <Button
        v-if="preview.data.value?.changes"
        variant="outlined"
        :label="`Take ${preview.data.value.changes} out, then end it`"
        :loading="remove.isPending.value"
        @click="remove.mutate()"
      />
    </div>
  </Dialog>
</template>

<style scoped>
.end {
  margin-top: 1rem;
}
</style>
