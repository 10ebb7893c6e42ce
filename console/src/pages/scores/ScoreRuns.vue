<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Column from 'primevue/column'

import { api, ok, type Schemas } from '../../api/client'
import { useAddress } from '../../parts/address'
import Listing from '../../parts/Listing.vue'
import Pager from '../../parts/Pager.vue'
import Signal from '../../parts/Signal.vue'
import { exactly } from '../../parts/when'
import { word } from '../../parts/words'

/** What was carried through a score link, the newest first. */
const props = defineProps<{ link: Schemas['ScoreLink'] }>()
const cursor = useAddress().cursors()
const list = useQuery({
  queryKey: ['runs', 'of-score-link', () => props.link.id, cursor],
  queryFn: () =>
    ok(
      api.GET('/api/v1/runs', {
        params: { query: { scoreLink: props.link.id, cursor: cursor.value.at(-1), limit: 50 } },
      }),
    ),
})
const results = ['made', 'scored', 'updated', 'replaced', 'reverted', 'refused', 'not-arrived']
const did = (r: Schemas['Run']) =>
  results
    .filter((k) => r.counts[k])
    .map((k) => `${r.counts[k]} ${word(`scores-${k}`, r.counts[k])}`)
    .join(', ')
</script>

<template>
  <Listing
    :rows="list.data.value?.items"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    :empty="$t('scores.nothingCarriedYet')"
  >
    <Column :header="$t('common.state')">
      <template #body="{ data }"><Signal :state="data.state" /></template>
    </Column>
    <Column :header="$t('common.at')">
      <template #body="{ data }"
        ><RouterLink :to="`/runs/${data.id}`">{{ exactly(data.createdAt) }}</RouterLink></template
      >
    </Column>
    <Column :header="$t('scores.by')" field="requestedBy" />
    <Column :header="$t('scores.whatItDid')">
      <template #body="{ data }"
        >{{ did(data)
        }}<span v-if="data.reverts" class="faint">{{ ' ' }}{{ $t('scores.tookBack') }}</span></template
      >
    </Column>
  </Listing>
  <Pager v-model="cursor" :next="list.data.value?.next" :back="$t('scores.newer')" :on="$t('scores.older')" />
</template>
