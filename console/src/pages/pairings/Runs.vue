<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'

import { api, ok } from '../../api/client'
import { useAddress } from '../../parts/address'
import TickField from '../../parts/form/TickField.vue'
import Listing from '../../parts/Listing.vue'
import PageHead from '../../parts/PageHead.vue'
import Pager from '../../parts/Pager.vue'
import Signal from '../../parts/Signal.vue'
import { exactly } from '../../parts/when'
import { became } from '../../parts/words'
import { lasted, titleOf } from './run'

/** Every read and every run, the newest first. */
const address = useAddress()
const active = address.tick('active')
const single = address.tick('single')
const pairing = address.kept('pairing')
const cursor = address.cursors()
const list = useQuery({
  queryKey: ['runs', 'list', active, single, pairing, cursor],
  queryFn: () =>
    ok(
      api.GET('/api/v1/runs', {
        params: {
          query: {
            active: active.value,
            single: single.value,
            pairing: pairing.value || undefined,
            cursor: cursor.value.at(-1),
            limit: 50,
          },
        },
      }),
    ),
  placeholderData: (before) => before,
})
</script>

<template>
  <PageHead :title="$t('pairings.runs')" :about="$t('pairings.whatWasReadAndWhat')">
    <Button
      v-if="pairing"
      size="small"
      variant="text"
      :label="$t('pairings.ofEveryPairing')"
      @click="pairing = ''"
    />
    <TickField v-model="active" :label="$t('pairings.onlyThoseAtWork')" />
    <TickField v-model="single" :label="$t('pairings.withoutThoseOfBatches')" />
  </PageHead>
  <Listing
    :rows="list.data.value?.items"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    :empty="active ? $t('pairings.nothingIsAtWork') : $t('pairings.nothingWasReadOrRun')"
    :next="active ? undefined : { to: '/connections', text: $t('pairings.readRegister') }"
  >
    <Column :header="$t('common.state')">
      <template #body="{ data }"><Signal :state="data.state" /></template>
    </Column>
    <Column :header="$t('common.what')">
      <template #body="{ data }"
        ><RouterLink :to="`/runs/${data.id}`">{{ titleOf(data) }}</RouterLink
        >{{ ' ' }}
        <RouterLink v-if="data.batchId" class="faint" :to="`/batches/${data.batchId}`">{{
          $t('pairings.ofBatch')
        }}</RouterLink></template
      >
    </Column>
    <Column :header="$t('pairings.whatBecameOfIt')">
      <template #body="{ data }"
        ><span v-if="data.error">{{ data.error }}</span
        ><span v-else-if="!data.finishedAt && data.total">{{
          $t('pairings.ofDone', { done: data.done, total: data.total })
        }}</span
        ><span v-else>{{
          became(data.counts) || (data.kind === 'read' ? $t('pairings.records', { done: data.done }) : '')
        }}</span>
      </template>
    </Column>
    <Column field="requestedBy" :header="$t('pairings.by')" />
    <Column :header="$t('pairings.began')">
      <template #body="{ data }"
        ><span class="faint">{{ exactly(data.startedAt ?? data.createdAt) }}</span></template
      >
    </Column>
    <Column :header="$t('pairings.took')">
      <template #body="{ data }"
        ><span v-if="data.finishedAt" class="faint">{{ lasted(data.seconds) }}</span></template
      >
    </Column>
  </Listing>
  <Pager v-model="cursor" :next="list.data.value?.next" />
</template>
