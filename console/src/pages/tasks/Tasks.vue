<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { computed, ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import { useAddress } from '../../parts/address'
import TickField from '../../parts/form/TickField.vue'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import { when } from '../../parts/when'
import { mayAll } from '../../shell/may'
import AnswerDialog from './AnswerDialog.vue'
import { bothSides, compared } from './compared'

/** What rules gave people to do, and the sheets that they fill. */
const queries = useQueryClient()
const done = useAddress().tick('done')
const list = useQuery({
  queryKey: ['tasks', done],
  queryFn: () => ok(api.GET('/api/v1/tasks', { params: { query: { done: done.value } } })),
})
const sheets = useQuery({
  queryKey: ['sheets'],
  queryFn: () => ok(api.GET('/api/v1/sheets')),
  enabled: mayAll('look'),
})
const answering = ref<Schemas['Task']>()
const rows = computed(() => list.data.value?.items)
const end = useMutation({
  mutationFn: (t: Schemas['Task']) => {
    const params = { params: { path: { id: t.id } } }
    return t.doneAt
      ? ok(api.POST('/api/v1/tasks/{id}/open', params))
      : ok(api.POST('/api/v1/tasks/{id}/done', params))
  },
  onSuccess: () => queries.invalidateQueries({ queryKey: ['tasks'] }),
})
</script>

<template>
  <PageHead :title="$t('tasks.tasks')" :about="$t('tasks.whatRulesGavePeopleTo')">
    <TickField v-model="done" :label="$t('tasks.thoseThatAreDone')" />
  </PageHead>
  <Oops :error="end.error.value" />
  <Listing
    :rows="rows"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    :empty="done ? $t('tasks.nothingIsDoneYet') : $t('tasks.nothingToDoRuleCan')"
    :next="done ? undefined : { to: '/rules', text: $t('tasks.seeRules') }"
  >
    <Column :header="$t('common.what')">
      <template #body="{ data }"
        >{{ data.title }}
        <div class="faint">{{ data.detail }}</div>
        <small v-for="line in compared(data)" :key="line" class="line faint">{{ line }}</small>
        <small v-if="bothSides(data)" class="line"
          ><RouterLink :to="bothSides(data)!">{{ $t('teaching.bothSides') }}</RouterLink></small
        >
        <small v-if="data.answer" class="line">{{
          $t('tasks.answered', { who: data.doneBy, answer: data.answer })
        }}</small></template
      >
    </Column>
    <Column :header="$t('tasks.about')">
      <template #body="{ data }">
        <RouterLink v-if="data.personId" :to="`/people/${data.personId}`">{{ data.person }}</RouterLink>
        <span class="faint"> {{ data.section }}</span>
      </template>
    </Column>
    <Column field="owner" :header="$t('tasks.whose')" />
    <Column :header="$t('tasks.due')"
      ><template #body="{ data }">{{ when(data.dueAt) }}</template></Column
    >
    <Column :header="$t('tasks.openedBy')"
      ><template #body="{ data }">{{ data.rule || data.asker }}</template></Column
    >
    <Column>
      <template #body="{ data }"
        ><Button
          size="small"
          variant="outlined"
          :label="data.doneAt ? $t('tasks.openAgain') : $t('common.done')"
          @click="data.asker && !data.doneAt ? (answering = data) : end.mutate(data)"
      /></template>
    </Column>
  </Listing>
  <AnswerDialog v-if="answering" :task="answering" @close="answering = undefined" />
  <h2>{{ $t('tasks.sheets') }}</h2>
  <p v-if="!sheets.data.value?.length" class="faint">{{ $t('tasks.noRuleHasFilledSheet') }}</p>
  <p v-for="s in sheets.data.value" :key="s.name">
    {{ $t('tasks.row', { name: s.name, rows: s.rows }, s.rows) }}
    <template v-for="form in ['csv', 'xlsx']" :key="form">
      ·
      <a :href="`/api/v1/sheets/${encodeURIComponent(s.name)}.${form}`" download>{{ form.toUpperCase() }}</a>
    </template>
  </p>
</template>

<style scoped>
.line {
  display: block;
}
</style>
