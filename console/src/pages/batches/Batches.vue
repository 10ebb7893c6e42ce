<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Column from 'primevue/column'

import { api, ok } from '../../api/client'
import { useAddress } from '../../parts/address'
import Listing from '../../parts/Listing.vue'
import PageHead from '../../parts/PageHead.vue'
import Pager from '../../parts/Pager.vue'
import { when } from '../../parts/when'
import { titleOf } from './acts'

/** What was done with many, the newest first. */
const cursor = useAddress().cursors()
const list = useQuery({
  queryKey: ['batch', 'list', cursor],
  queryFn: () =>
    ok(api.GET('/api/v1/batches', { params: { query: { cursor: cursor.value.at(-1), limit: 50 } } })),
})
</script>

<template>
  <PageHead title="Batches" about="What was done with many classes at once, and what became of it" />
  <Listing
    :rows="list.data.value?.items"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    empty="Nothing was done with many classes at once yet."
    :next="{ to: '/sections', text: 'Choose sections' }"
  >
    <Column header="What">
      <template #body="{ data }"
        ><RouterLink :to="`/batches/${data.id}`">{{ titleOf(data.act) }}</RouterLink></template
      >
    </Column>
    <Column field="items" header="Classes" />
    <Column header="How it stands">
      <template #body="{ data }"
        ><span v-if="data.left">○ {{ data.items - data.left }} of {{ data.items }} done</span
        ><span v-else-if="data.active"
          >○ {{ data.runs - data.active }} of {{ data.runs }} runs have ended</span
        ><span v-else-if="data.problems || data.failed" class="bad"
          >▲ {{ data.problems + data.failed }} not done</span
        ><span v-else>● ended</span></template
      >
    </Column>
    <Column field="madeBy" header="By" />
    <Column header="At">
      <template #body="{ data }"
        ><span class="faint">{{ when(data.appliedAt) }}</span></template
      >
    </Column>
  </Listing>
  <Pager v-model="cursor" :next="list.data.value?.next" />
</template>

<style scoped>
.bad {
  color: var(--signal);
}
</style>
