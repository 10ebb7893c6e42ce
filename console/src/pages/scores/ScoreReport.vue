<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Column from 'primevue/column'
import { computed } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import { useAddress } from '../../parts/address'
import Listing from '../../parts/Listing.vue'
import Tabs from '../../parts/Tabs.vue'
import { word } from '../../parts/words'
import { $t } from '../../texts'

/** What a run did to the book, one thing after the other. */
const props = defineProps<{ run: Schemas['Run'] }>()
const state = useAddress().kept('show')
const list = useQuery({
  queryKey: ['run', () => props.run.id, 'score-changes'],
  queryFn: () => ok(api.GET('/api/v1/runs/{id}/score-changes', { params: { path: { id: props.run.id } } })),
})
const all = computed(() => list.data.value?.items.map((x, id) => ({ id: String(id), ...x })))
const rows = computed(() => all.value?.filter((x) => !state.value || x.state === state.value))
const tabs = computed(() => [
  { name: '', title: $t('scores.everything'), count: all.value?.length },
  ...['refused', 'not-arrived', 'done', 'pending', 'started']
    .map((name) => ({ name, title: word(name), count: all.value?.filter((x) => x.state === name).length }))
    .filter((t) => t.count),
])
const results = ['made', 'scored', 'updated', 'replaced', 'reverted', 'refused', 'not-arrived'] as const
const told = computed(() => results.filter((k) => props.run.counts[k]))
const urgent = ['refused', 'not-arrived']
</script>

<template>
  <ul v-if="run.finishedAt" class="numbers">
    <li v-for="k in told" :key="k" class="sheet" :class="{ urgent: urgent.includes(k) }">
      <b>{{ run.counts[k] }}</b> {{ word(`scores-${k}`, run.counts[k]) }}
    </li>
    <li v-if="!told.length" class="sheet">{{ $t('scores.nothingWasDone') }}</li>
  </ul>
  <ul v-if="run.findings.length" class="sheet moved">
    <li v-for="(f, i) in run.findings" :key="i">{{ f.subject }}: {{ f.detail }}</li>
  </ul>
  <Tabs v-model="state" :label="$t('scores.which')" :tabs="tabs" />
  <Listing
    sorts
    :rows="rows"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    :empty="$t('scores.nothingWasDone')"
  >
    <Column :header="$t('common.what')">
      <template #body="{ data }">{{ word(`about-${data.what}`) }}</template>
    </Column>
    <Column :header="$t('scores.assignment')" field="title" sortable />
    <Column :header="$t('common.person')" field="name" sortable>
      <template #body="{ data }"
        ><RouterLink v-if="data.personId" :to="`/people/${data.personId}`">{{
          data.name
        }}</RouterLink></template
      >
    </Column>
    <Column :header="$t('scores.before')">
      <template #body="{ data }">{{ data.what === 'score' ? data.before.text : '' }}</template>
    </Column>
    <Column :header="$t('scores.sent')">
      <template #body="{ data }">{{ data.what === 'score' ? data.sent.text : '' }}</template>
    </Column>
    <Column :header="$t('common.state')" field="state" sortable>
      <template #body="{ data }"
        ><b :class="{ bad: urgent.includes(data.state) }">{{ word(data.state) }}</b>
        <small v-if="data.why" class="below" :title="data.remedy">{{ data.why }}</small>
        <small v-if="data.answer" class="below faint">{{ data.answer }}</small></template
      >
    </Column>
  </Listing>
</template>

<style scoped>
.numbers {
  display: flex;
  gap: 0.6rem;
  flex-wrap: wrap;
  list-style: none;
  padding: 0;
}

.numbers li {
  padding: 0.5rem 0.9rem;
}

.numbers .urgent,
.bad {
  color: var(--signal);
}

.moved {
  padding: 0.6rem 1rem 0.6rem 2rem;
}
</style>
