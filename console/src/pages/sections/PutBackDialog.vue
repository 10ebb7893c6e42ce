<script setup lang="ts">
import { useMutation, useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import Frame from '../../parts/form/Frame.vue'
import Oops from '../../parts/Oops.vue'
import { when } from '../../parts/when'

/** Puts results of a safety copy back that are no longer there. */
const props = defineProps<{ copy: Schemas['CopyRef'] }>()
const emit = defineEmits<{ close: [] }>()
const path = { params: { path: { id: props.copy.id } } }
const outlook = useQuery({
  queryKey: ['sets', 'copy', props.copy.id],
  queryFn: () => ok(api.GET('/api/v1/safety-copies/{id}/outlook', path)),
  staleTime: 0,
})
const back = useMutation({
  mutationFn: () => ok(api.POST('/api/v1/safety-copies/{id}/put-back', path)),
})
const shown = computed(() => back.data.value ?? outlook.data.value)
</script>

<template>
  <Frame :of="back" :title="`Copy of ${when(copy.createdAt)}`" width="40rem" @close="emit('close')">
    <p class="faint">
      Who is in a section comes from the register, and classes follow it. What can be lost are results.
    </p>
    <p v-if="outlook.isLoading.value" class="faint" aria-busy="true">Comparing with what is there…</p>
    <template v-if="shown">
      <p role="status">
        {{ back.data.value ? 'Put back' : 'Missing' }}: {{ shown.back.length }} results. {{ shown.there }} are
        there and stay as they are<template v-if="shown.gone"
          >; {{ shown.gone }} are of people or sections that are gone</template
        >.
      </p>
      <ul v-if="shown.back.length" class="results">
        <li v-for="r in shown.back" :key="r.code + r.identifier + r.activityId">
          {{ r.person }} <span class="faint">{{ r.code }} · {{ r.activityId }}</span>
        </li>
      </ul>
    </template>
    <Oops :error="back.error.value ?? outlook.error.value" />
    <div class="actions">
      <Button
        v-if="!back.data.value"
        :label="`Put ${outlook.data.value?.back.length ?? 0} back`"
        :disabled="!outlook.data.value?.back.length"
        :loading="back.isPending.value"
        @click="back.mutate()"
      />
      <Button variant="text" label="Close" @click="emit('close')" />
    </div>
  </Frame>
</template>

<style scoped>
.results {
  max-height: 16rem;
  overflow-y: auto;
  padding-inline-start: 1.2rem;
}
</style>
