<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { computed } from 'vue'

import { api, ok } from '../../api/client'
import { useAddress } from '../../parts/address'
import Counts from '../../parts/Counts.vue'
import Listing from '../../parts/Listing.vue'
import PageHead from '../../parts/PageHead.vue'
import Tabs from '../../parts/Tabs.vue'
import { word } from '../../parts/words'
import { $t } from '../../texts'

const props = defineProps<{ id: string }>()
const path = computed(() => ({ params: { path: { id: props.id } } }))
const pairing = useQuery({
  queryKey: ['pairing', () => props.id],
  queryFn: () => ok(api.GET('/api/v1/pairings/{id}', path.value)),
})
const lines = useQuery({
  queryKey: ['comparison', () => props.id],
  queryFn: () => ok(api.GET('/api/v1/pairings/{id}/comparison', path.value)),
  refetchOnWindowFocus: false,
})
const shown = useAddress().kept('shown', 'differences')
const all = computed(() => lines.data.value?.items ?? [])
const differs = (o: string) => o !== 'in-step' && o !== 'left-out'
const counts = computed(() => {
  const n: Record<string, number> = {}
  for (const l of all.value) n[l.outcome] = (n[l.outcome] ?? 0) + 1
  return n
})
const tabs = computed(() => [
  {
    name: 'differences',
    title: $t('pairings.onlyDifferences'),
    count: all.value.filter((l) => differs(l.outcome)).length,
  },
  { name: $t('pairings.all'), title: $t('pairings.all'), count: all.value.length },
  ...Object.keys(counts.value).map((o) => ({ name: o, title: word(o, 2), count: counts.value[o] })),
])
const rows = computed(() =>
  lines.data.value?.items
    .filter((l) =>
      shown.value === 'all'
        ? true
        : shown.value === 'differences'
          ? differs(l.outcome)
          : l.outcome === shown.value,
    )
    .map((l, i) => ({ key: i, ...l })),
)
</script>

<template>
  <PageHead
    :title="
      $t('pairings.and', {
        title: pairing.data.value?.section.title ?? '',
        target: pairing.data.value?.target ?? '',
      })
    "
  >
    <template #about>{{ $t('pairings.bothSidesAsTheyAre') }}</template>
    <RouterLink :to="`/pairings/${id}`">{{ $t('pairings.toPairing') }}</RouterLink>
    <a :href="`/api/v1/pairings/${id}/comparison.csv`" download>{{ $t('pairings.downloadAsCsv') }}</a>
    <Button
      size="small"
      variant="outlined"
      :label="$t('pairings.compareAgain')"
      :loading="lines.isFetching.value"
      @click="lines.refetch()"
    />
  </PageHead>
  <Counts :counts="counts" />
  <Tabs v-model="shown" :label="$t('pairings.shown')" :tabs="tabs" />
  <Listing
    :rows="rows"
    :loading="lines.isLoading.value"
    :error="lines.error.value"
    :again="lines.refetch"
    :empty="$t('pairings.bothSidesAreSame')"
    row-key="key"
  >
    <Column :header="$t('pairings.inRegister')">
      <template #body="{ data }">
        <template v-if="data.register">
          <RouterLink :to="`/people/${data.personId}`">{{ data.register.name }}</RouterLink>
          <span class="faint">{{ data.role }}</span>
          <div class="faint">{{ data.register.email || $t('pairings.noEMailAddress') }}</div>
        </template>
        <span v-else class="faint">{{ $t('pairings.nobody') }}</span>
      </template>
    </Column>
    <Column header="">
      <template #body="{ data }"
        ><span class="sign" :class="data.outcome" aria-hidden="true">{{
          data.outcome === 'in-step' ? '=' : data.outcome === 'left-out' ? '·' : '≠'
        }}</span></template
      >
    </Column>
    <Column :header="$t('pairings.atService')">
      <template #body="{ data }">
        <template v-if="data.service">
          {{ data.service.name || data.service.userName }}
          <code class="faint">{{ data.service.accountId }}</code>
          <div class="faint">
            {{ data.service.email
            }}<template v-if="!data.service.active">{{ ' ' }}{{ $t('pairings.notActive') }}</template
            ><template v-if="!data.service.member">{{ ' ' }}{{ $t('pairings.notMember') }}</template>
          </div>
        </template>
        <span v-else class="faint">{{ $t('pairings.noAccount') }}</span>
      </template>
    </Column>
    <Column :header="$t('pairings.outcome')">
      <template #body="{ data }"
        ><span class="once" :class="{ urgent: data.outcome === 'needs-person' }">{{
          word(data.outcome)
        }}</span></template
      >
    </Column>
    <Column :header="$t('common.why')">
      <template #body="{ data }"
        >{{ data.title }} <span v-if="data.detail" class="faint">({{ data.detail }})</span>
        <div v-if="data.remedy" class="faint">{{ data.remedy }} {{ data.owner }}</div></template
      >
    </Column>
  </Listing>
</template>

<style scoped>
.sign {
  font: 600 1rem/1 var(--mono);
  color: var(--faint);
}

.once {
  white-space: nowrap;
}

.sign.in-step {
  color: var(--calm);
}

.sign.needs-person,
.urgent {
  color: var(--signal);
  font-weight: 600;
}
</style>
