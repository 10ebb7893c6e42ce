<script setup lang="ts">
import { useMutation, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import { ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import Oops from '../../parts/Oops.vue'

/** Unlinks a set and says what becomes of its class. */
const props = defineProps<{ set: Schemas['LinkedSet'] }>()
const emit = defineEmits<{ close: [] }>()
const queries = useQueryClient()
const target = ref('lead')
const unlink = useMutation({
  mutationFn: () =>
    ok(
      api.POST('/api/v1/linked-sets/{id}/unlink', {
        params: { path: { id: props.set.id }, header: { 'If-Match': `"${props.set.version}"` } },
        body: { target: props.set.targets.length ? target.value : '' },
      }),
    ),
  onSuccess: async () => {
    await Promise.all(
      ['sets', 'sections', 'board', 'pairing'].map((k) => queries.invalidateQueries({ queryKey: [k] })),
    )
    emit('close')
  },
})
</script>

<template>
  <Dialog
    visible
    modal
    :header="`Unlink ${set.name}`"
    :style="{ width: '34rem' }"
    @update:visible="emit('close')"
  >
    <p>{{ set.sections.map((s) => s.title).join(', ') }} are handled one by one again.</p>
    <template v-for="t in set.targets" :key="t.pairingId">
      <label class="choice">
        <input v-model="target" type="radio" value="lead" />
        {{ t.target }} stays {{ set.sections[0]?.title }}'s. {{ t.others }} people of the others come out with
        its next run, when that is approved.
      </label>
      <label class="choice">
        <input v-model="target" type="radio" value="end" />
        Everybody stays in {{ t.target }}, and nothing keeps it in step any more.
      </label>
    </template>
    <Oops :error="unlink.error.value" />
    <div class="actions">
      <Button label="Unlink" :loading="unlink.isPending.value" @click="unlink.mutate()" />
      <Button variant="text" label="Cancel" @click="emit('close')" />
    </div>
  </Dialog>
</template>

<style scoped>
.choice {
  display: block;
  padding: 0.3rem 0;
}
</style>
