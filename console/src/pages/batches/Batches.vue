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
  <PageHead :title="$t('batches.batches')" :about="$t('batches.whatWasDoneWithMany')" />
  <Listing
    :rows="list.data.value?.items"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    :empty="$t('batches.nothingWasDoneWithMany')"
    :next="{ to: '/sections', text: $t('batches.chooseSections') }"
  >
    <Column :header="$t('common.what')">
      <template #body="{ data }"
        ><RouterLink :to="`/batches/${data.id}`">{{ titleOf(data.act) }}</RouterLink></template
      >
    </Column>
    <Column field="items" :header="$t('batches.classes')" />
    <Column :header="$t('batches.howItStands')">
      <template #body="{ data }"
        ><span v-if="data.left">{{
          $t('batches.ofDone', { items: data.items - data.left, items2: data.items })
        }}</span
        ><span v-else-if="data.active">{{
          $t('batches.ofRunsHaveEnded', { runs: data.runs - data.active, runs2: data.runs })
        }}</span
        ><span v-else-if="data.problems || data.failed" class="bad">{{
          $t('batches.notDoneProblems', { problems: data.problems + data.failed })
        }}</span
        ><span v-else>{{ $t('batches.ended') }}</span></template
      >
    </Column>
    <Column field="madeBy" :header="$t('batches.by')" />
    <Column :header="$t('common.at')">
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
