<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Column from 'primevue/column'
import { computed } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import { useAddress } from '../../parts/address'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import TextField from '../../parts/form/TextField.vue'
import Listing from '../../parts/Listing.vue'
import { day } from '../../parts/when'
import { word } from '../../parts/words'

/** Missing work, and scores that are not final, by section, teacher and learner. */
const props = defineProps<{ link: Schemas['ScoreLink'] }>()
const address = useAddress()
const state = address.kept('state')
const text = address.kept('find', '', true)
const list = useQuery({
  queryKey: ['score-links', () => props.link.id, 'unfinished'],
  queryFn: () =>
    ok(api.GET('/api/v1/score-links/{id}/unfinished', { params: { path: { id: props.link.id } } })),
})
const all = computed(() => list.data.value?.items.map((x, id) => ({ id: String(id), ...x })))
const rows = computed(() => {
  const find = text.value.trim().toLowerCase()
  return all.value?.filter(
    (x) =>
      (!state.value || x.state === state.value) &&
      [x.section, x.assignment, x.person, ...x.teachers].some((t) => t.toLowerCase().includes(find)),
  )
})
const states = ['draft', 'partly-marked', 'not-released', 'not-marked', 'missing', 'not-submitted']
</script>

<template>
  <div class="bar">
    <ChoiceField
      v-model="state"
      hidden
      :label="$t('scores.which')"
      :options="[
        { value: '', label: $t('scores.allUnfinished', { n: all?.length ?? 0 }) },
        ...states.map((s) => ({
          value: s,
          label: `${word(`work-${s}`)} (${all?.filter((x) => x.state === s).length ?? 0})`,
        })),
      ]"
    />
    <TextField
      v-model="text"
      hidden
      type="search"
      :label="$t('common.find')"
      class="find"
      :placeholder="$t('scores.sectionTeacherLearner')"
    />
    <span class="grow" />
    <a :href="`/api/v1/score-links/${link.id}/unfinished.csv`">{{ $t('scores.asCSV') }}</a>
    <a :href="`/api/v1/score-links/${link.id}/unfinished.xlsx`">{{ $t('scores.asXLSX') }}</a>
  </div>
  <Listing
    sorts
    :rows="rows"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    :empty="
      all?.length
        ? $t('scores.noScoreFits')
        : link.comparedAt
          ? $t('scores.nothingUnfinished')
          : $t('scores.unfinishedUnknown')
    "
  >
    <Column :header="$t('common.person')" field="person" sortable>
      <template #body="{ data }"
        ><RouterLink v-if="data.personId" :to="`/people/${data.personId}`">{{ data.person }}</RouterLink
        ><template v-else>{{ data.person }}</template></template
      >
    </Column>
    <Column :header="$t('scores.assignment')" field="assignment" sortable>
      <template #body="{ data }"
        ><a v-if="data.page" :href="data.page" target="_blank" rel="noopener">{{ data.assignment }}</a
        ><template v-else>{{ data.assignment }}</template></template
      >
    </Column>
    <Column :header="$t('common.section')" field="section" sortable>
      <template #body="{ data }"
        >{{ data.section }} <small class="faint below">{{ data.teachers.join(', ') }}</small></template
      >
    </Column>
    <Column :header="$t('scores.due')" field="due" sortable>
      <template #body="{ data }">{{ data.due ? day(data.due) : $t('scores.noDate') }}</template>
    </Column>
    <Column :header="$t('common.state')" field="state" sortable>
      <template #body="{ data }">{{ word(`work-${data.state}`) }}</template>
    </Column>
    <Column :header="$t('scores.entered')" field="since" sortable>
      <template #body="{ data }"
        >{{ data.score }} <span class="faint">{{ data.since ? day(data.since) : '' }}</span></template
      >
    </Column>
  </Listing>
</template>

<style scoped>
.bar {
  display: flex;
  gap: 0.8rem;
  align-items: center;
  flex-wrap: wrap;
  margin-bottom: 0.5rem;
}

.grow {
  flex: 1;
}

.find {
  min-width: 17rem;
}
</style>
