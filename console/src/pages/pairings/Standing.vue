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
    {{ $t('pairings.classWasDeletedAtService') }}
    <Button
      size="small"
      :label="$t('pairings.makeItAnew')"
      :loading="renew.isPending.value"
      @click="renew.mutate()"
    />
    <Button size="small" variant="outlined" :label="$t('pairings.endPairing')" @click="ending = true" />
  </div>
  <div v-else-if="pairing.section.state === 'ended'" class="sheet bad" role="alert">
    {{ $t('pairings.termOfThisSectionIs') }}
    <Button
      size="small"
      :label="$t('pairings.moveItToNextTerm')"
      :loading="next.isPending.value"
      @click="next.mutate()"
    />
    <Button size="small" variant="outlined" :label="$t('pairings.endPairing')" @click="ending = true" />
  </div>
  <div v-else-if="pairing.section.gone" class="sheet bad" role="alert">
    {{ $t('pairings.sectionIsNoLongerIn') }}
    <Button size="small" variant="outlined" :label="$t('pairings.endPairing')" @click="ending = true" />
  </div>
  <div v-else-if="pairing.unminded" class="sheet bad" role="alert">
    {{ $t('pairings.peopleOfSectionWerePut', { unminded: pairing.unminded }) }}
    <Button
      size="small"
      :label="$t('pairings.takeThemOver')"
      :loading="takeOver.isPending.value"
      @click="takeOver.mutate(false)"
    />
    <Button
      size="small"
      variant="outlined"
      :label="$t('pairings.leaveThem')"
      :loading="takeOver.isPending.value"
      @click="takeOver.mutate(true)"
    />
  </div>
  <p v-else-if="pairing.seen" class="faint note">
    {{ $t('pairings.serviceCallsThisClass', { seen: pairing.seen }) }}
  </p>
  <p v-if="pairing.section.set" class="faint note">
    {{
      $t('pairings.oneClassForWithGroup', {
        sections: pairing.section.set.sections.map((s) => s.title).join(', '),
      })
    }}
    <RouterLink to="/sections/linked">{{ $t('common.linkedSets') }}</RouterLink>
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
