<script setup lang="ts">
import { useMutation, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, ok, type Schemas } from '../../api/client'
import Oops from '../../parts/Oops.vue'
import EndDialog from './EndDialog.vue'

/** What a person has to decide about a pairing as a whole, with the ways out. */
const props = defineProps<{ pairing: Schemas['Pairing'] }>()
const queries = useQueryClient()
const router = useRouter()
const ending = ref(false)
const renew = useMutation({
  mutationFn: () =>
    ok(api.POST('/api/v1/pairings/{id}/renew', { params: { path: { id: props.pairing.id } } })),
  onSuccess: () =>
    Promise.all(['pairing', 'preview'].map((k) => queries.invalidateQueries({ queryKey: [k] }))),
})
const takeOver = useMutation({
  mutationFn: (leave: boolean) =>
    ok(
      api.POST('/api/v1/pairings/{id}/take-over', {
        params: { path: { id: props.pairing.id } },
        body: { leave },
      }),
    ),
  onSuccess: () =>
    Promise.all(['pairing', 'preview'].map((k) => queries.invalidateQueries({ queryKey: [k] }))),
})
const next = useMutation({
  mutationFn: () =>
    ok(api.POST('/api/v1/batches', { body: { act: 'next-term', pairings: [props.pairing.id] } })),
  onSuccess: (b) => router.push(`/batches/${b.id}`),
})
</script>

<template>
  <div v-if="pairing.lost" class="sheet bad" role="alert">
    ▲ The class was deleted at the service. Nothing is changed until you say what is to become of it.
    <Button size="small" label="Make it anew" :loading="renew.isPending.value" @click="renew.mutate()" />
    <Button size="small" variant="outlined" label="End the pairing…" @click="ending = true" />
  </div>
  <div v-else-if="pairing.section.state === 'ended'" class="sheet bad" role="alert">
    □ The term of this section is over, so nothing runs by itself any more. What becomes of the class and its
    people?
    <Button
      size="small"
      label="Move it to the next term…"
      :loading="next.isPending.value"
      @click="next.mutate()"
    />
    <Button size="small" variant="outlined" label="End the pairing…" @click="ending = true" />
  </div>
  <div v-else-if="pairing.section.gone" class="sheet bad" role="alert">
    ▲ The section is no longer in the register. Nobody is taken out by mistake: nothing runs by itself.
    <Button size="small" variant="outlined" label="End the pairing…" @click="ending = true" />
  </div>
  <div v-else-if="pairing.unminded" class="sheet bad" role="alert">
    ▲ {{ pairing.unminded }} people of the section were put into the class by somebody else. When they leave
    the section they stay in the class.
    <Button
      size="small"
      label="Take them over"
      :loading="takeOver.isPending.value"
      @click="takeOver.mutate(false)"
    />
    <Button
      size="small"
      variant="outlined"
      label="Leave them"
      :loading="takeOver.isPending.value"
      @click="takeOver.mutate(true)"
    />
  </div>
  <p v-else-if="pairing.seen" class="faint note">The service calls this class “{{ pairing.seen }}”.</p>
  <p v-if="pairing.section.set" class="faint note">
    One class for {{ pairing.section.set.sections.map((s) => s.title).join(', ') }}, with a group for each.
    <RouterLink to="/sections/linked">Linked sets</RouterLink>
  </p>
  <Oops :error="renew.error.value ?? takeOver.error.value ?? next.error.value" />
  <EndDialog v-if="ending" :pairing="pairing" @close="ending = false" />
</template>

<style scoped>
.bad {
  display: flex;
  flex-wrap: wrap;
  gap: 0.8rem;
  align-items: center;
  padding: 0.7rem 0.9rem;
  margin-bottom: 0.8rem;
  border-inline-start: 3px solid var(--signal);
}

.note {
  margin: 0 0 0.5rem;
}
</style>
