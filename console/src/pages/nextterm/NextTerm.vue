<script setup lang="ts">
import { useMutation, useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, ok, type Schemas } from '../../api/client'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'

/** Classes whose term runs out, with the sections that follow. */
const router = useRouter()
const days = ref(60)
const list = useQuery({
  queryKey: ['sections', 'next-term', days],
  queryFn: () => ok(api.GET('/api/v1/next-term', { params: { query: { days: days.value } } })),
  placeholderData: (before) => before,
})
const skipped = ref<string[]>([])
const wanted = computed(() => (list.data.value ?? []).filter((x) => !skipped.value.includes(x.pairingId)))
const look = useMutation({
  mutationFn: () =>
    ok(
      api.POST('/api/v1/batches', {
        body: {
          act: 'next-term',
          pairings: wanted.value.map((x) => x.pairingId),
          to: Object.fromEntries(wanted.value.map((x) => [x.pairingId, x.toId])),
        },
      }),
    ),
  onSuccess: (b) => router.push(`/batches/${b.id}`),
})

function toggle(x: Schemas['Succession']) {
  skipped.value = skipped.value.includes(x.pairingId)
    ? skipped.value.filter((id) => id !== x.pairingId)
    : [...skipped.value, x.pairingId]
}
</script>

<template>
  <PageHead title="Next term" about="classes whose term runs out, with the sections that follow">
    <label
      >ends within
      <input v-model.number="days" class="filter days" type="number" min="0" max="400" aria-label="Days" />
      days</label
    >
    <Button
      size="small"
      :label="`Show what it means: ${wanted.length}`"
      :disabled="!wanted.length"
      :loading="look.isPending.value"
      @click="look.mutate()"
    />
  </PageHead>
  <Oops :error="look.error.value" />
  <Listing
    :rows="list.data.value"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    row-key="pairingId"
    :empty="`No class has a section that follows within ${days} days. A pairing can also be moved by hand: choose it among the sections.`"
  >
    <Column style="width: 2rem">
      <template #body="{ data }">
        <input
          type="checkbox"
          :aria-label="`Move ${data.from}`"
          :checked="!skipped.includes(data.pairingId)"
          @change="toggle(data)"
        />
      </template>
    </Column>
    <Column header="Section whose term ends">
      <template #body="{ data }"
        ><RouterLink :to="`/pairings/${data.pairingId}`">{{ data.from }}</RouterLink></template
      >
    </Column>
    <Column field="to" header="Follows" />
    <Column header="Because"
      ><template #body="{ data }">{{ data.evidence.join(', ') }}</template></Column
    >
    <Column field="score" header="Of 100" />
  </Listing>
</template>

<style scoped>
.days {
  width: 4.5rem;
}
</style>
