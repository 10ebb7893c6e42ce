<script setup lang="ts">
import Column from 'primevue/column'
import { computed } from 'vue'

import type { Schemas } from '../../api/client'
import { useAddress } from '../../parts/address'
import TickField from '../../parts/form/TickField.vue'
import Listing from '../../parts/Listing.vue'
import Tabs from '../../parts/Tabs.vue'
import { word } from '../../parts/words'
import { $t } from '../../texts'

/** Everybody in a preview or a run, each with outcome, reason and remedy. */
interface Row {
  entry: Schemas['Decision']
  state: string
  answer?: string
}

const props = defineProps<{
  people: Row[] | undefined
  loading: boolean
  error: Error | null
  again?: () => unknown
}>()
/** Keys of the people that are ticked; given only where some can be. */
const ticked = defineModel<string[]>('ticked')
const canTick = (p: Row) => ['to-add', 'to-update', 'to-remove'].includes(p.state) || p.entry.again
const keyOf = (e: Schemas['Decision']) => e.personId || `account:${e.accountId}`
function tick(key: string, on: boolean) {
  const others = (ticked.value ?? []).filter((k) => k !== key)
  ticked.value = on ? [...others, key] : others
}
const shown = useAddress().kept('outcome', $t('pairings.all'))
const tabs = computed(() => [
  { name: $t('pairings.all'), title: $t('pairings.all'), count: props.people?.length },
  ...[...new Set(props.people?.map((p) => p.state))].map((o) => ({
    name: o,
    title: word(o, 2),
    count: props.people?.filter((p) => p.state === o).length,
  })),
])
const rows = computed(() =>
  props.people
    ?.filter((p) => shown.value === 'all' || p.state === shown.value)
    .map((p, i) => ({ id: p.entry.personId || p.entry.accountId || String(i), ...p })),
)
const urgent = ['needs-person', 'refused', 'not-arrived']
</script>

<template>
  <Tabs v-model="shown" :label="$t('pairings.outcome')" :tabs="tabs" />
  <Listing
    sorts
    :rows="rows"
    :loading="loading"
    :error="error"
    :again="again"
    :empty="$t('pairings.nobodyIsInThisSection')"
  >
    <Column v-if="ticked" header="">
      <template #body="{ data }">
        <TickField
          v-if="canTick(data)"
          :model-value="ticked.includes(keyOf(data.entry))"
          hidden
          :label="$t('pairings.only', { name: data.entry.name })"
          @update:model-value="(on) => tick(keyOf(data.entry), !!on)"
        />
      </template>
    </Column>
    <Column :header="$t('pairings.outcome')" field="state" sortable>
      <template #body="{ data }">
        <span class="outcome" :class="{ urgent: urgent.includes(data.state) }">{{ word(data.state) }}</span>
      </template>
    </Column>
    <Column :header="$t('common.person')" field="entry.name" sortable>
      <template #body="{ data }"
        ><RouterLink v-if="data.entry.personId" :to="`/people/${data.entry.personId}`">{{
          data.entry.name
        }}</RouterLink>
        <template v-else>{{ data.entry.name }}</template>
        <span class="faint">{{ data.entry.role }}</span></template
      >
    </Column>
    <Column :header="$t('common.why')" field="entry.title" sortable>
      <template #body="{ data }">
        {{ data.entry.title }}
        <span v-if="data.answer || data.entry.detail" class="faint"
          >({{ data.answer || data.entry.detail }})</span
        >
        <div v-if="data.entry.remedy" class="remedy">
          {{ data.entry.remedy }} <span class="faint">{{ data.entry.owner }}</span>
        </div>
      </template>
    </Column>
  </Listing>
</template>

<style scoped>
.outcome {
  white-space: nowrap;
}

.urgent {
  color: var(--signal);
  font-weight: 600;
}

.remedy {
  font-size: 12.5px;
}
</style>
