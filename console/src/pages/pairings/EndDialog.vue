<script setup lang="ts">
import { useMutation, useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import RadioButton from 'primevue/radiobutton'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, ok, type Schemas } from '../../api/client'
import Effects from '../../parts/Effects.vue'
import Frame from '../../parts/form/Frame.vue'
import { letGo } from '../../parts/form/typed'
import Oops from '../../parts/Oops.vue'

/** Ends a pairing, with its people left where they are or taken out. */
const props = defineProps<{ pairing: Schemas['Pairing'] }>()
const emit = defineEmits<{ close: [] }>()
const router = useRouter()
const path = { params: { path: { id: props.pairing.id } } }
const members = ref<'keep' | 'remove'>('keep')
// What taking them out would do, to be done exactly so.
const preview = useQuery({
  queryKey: ['ending', props.pairing.id],
  queryFn: () => ok(api.POST('/api/v1/pairings/{id}/ending', path)),
  enabled: computed(() => members.value === 'remove'),
  staleTime: Infinity,
  gcTime: 0,
  retry: false,
  refetchOnWindowFocus: false,
})
const effects = useQuery({
  queryKey: ['ending', props.pairing.id, 'effects', members],
  queryFn: () =>
    ok(
      api.GET('/api/v1/pairings/{id}/effects', {
        params: { path: { id: props.pairing.id }, query: { members: members.value } },
      }),
    ),
  retry: false,
})
const shown = computed(() => (effects.data.value ? [effects.data.value] : undefined))
const keep = useMutation({
  mutationFn: () => ok(api.DELETE('/api/v1/pairings/{id}', path)),
  onSuccess: () => {
    letGo()
    return router.push('/sections')
  },
})
const remove = useMutation({
  mutationFn: () => ok(api.POST('/api/v1/runs', { body: { previewId: preview.data.value!.id } })),
  onSuccess: (r) => {
    letGo()
    return router.push(`/runs/${r.id}`)
  },
})
</script>

<template>
  <Frame
    :title="$t('pairings.endPairingWith', { target: pairing.target })"
    width="46rem"
    @close="emit('close')"
  >
    <p>{{ $t('pairings.classAtStaysWhatOf', { interface: pairing.section.interface }) }}</p>
    <label class="choice"
      ><RadioButton v-model="members" value="keep" /> {{ $t('pairings.theyStayAndNothingKeeps') }}</label
    >
    <label class="choice"
      ><RadioButton v-model="members" value="remove" /> {{ $t('pairings.theyAreRemovedThenIt') }}</label
    >
    <Oops
      :error="effects.error.value ?? preview.error.value ?? keep.error.value ?? remove.error.value"
      :again="effects.refetch"
    />
    <Effects :classes="shown" :loading="effects.isLoading.value" />
    <div class="actions end">
      <Button
        v-if="members === 'keep'"
        :label="$t('pairings.endItPeopleStay')"
        :loading="keep.isPending.value"
        @click="keep.mutate()"
      />
      <Button
        v-else
        :label="$t('pairings.takeOutThenEndIt', { changes: preview.data.value?.changes ?? '…' })"
        :disabled="!preview.data.value?.changes"
        :loading="remove.isPending.value"
        @click="remove.mutate()"
      />
    </div>
  </Frame>
</template>

<style scoped>
.choice {
  display: flex;
  gap: 0.6rem;
  padding: 0.3rem 0;
}

.end {
  margin-top: 1rem;
}
</style>
