<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed } from 'vue'

import { api, ifMatch, ok } from '../../api/client'
import { refresh } from '../../api/live'
import { useAddress } from '../../parts/address'
import Checklist from '../../parts/Checklist.vue'
import { ask } from '../../parts/form/ask'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import Signal from '../../parts/Signal.vue'
import Tabs from '../../parts/Tabs.vue'
import { when } from '../../parts/when'
import { $t } from '../../texts'
import Assignments from './Assignments.vue'
import Carry from './Carry.vue'
import FileSide from './FileSide.vue'
import ScoreRuns from './ScoreRuns.vue'
import SetUp from './SetUp.vue'
import UnfinishedWork from './UnfinishedWork.vue'

/** One score link: its assignments, what would be carried, what is set for it, what was done. */
const props = defineProps<{ id: string }>()
const queries = useQueryClient()
const tab = useAddress().kept('tab', 'assignments')
const path = computed(() => ({ path: { id: props.id } }))
const one = useQuery({
  queryKey: ['score-links', () => props.id],
  queryFn: () => ok(api.GET('/api/v1/score-links/{id}', { params: path.value })),
})
const l = computed(() => one.data.value)
const after = () => refresh(queries, 'scoreLink')
const pause = useMutation({
  mutationFn: (paused: boolean) =>
    ok(
      api.PATCH('/api/v1/score-links/{id}', {
        params: { ...path.value, header: ifMatch(l.value?.version) },
        body: { paused },
      }),
    ),
  onSettled: after,
})
const end = useMutation({
  mutationFn: () => ok(api.POST('/api/v1/score-links/{id}/end', { params: path.value })),
  onSettled: after,
})
async function ended() {
  const yes = await ask({
    title: $t('scores.endLink'),
    text: $t('scores.whatIsInBookStays'),
    yes: $t('scores.end'),
    no: $t('scores.leaveIt'),
  })
  if (yes) end.mutate()
}
const tabs = computed(() => [
  { name: 'assignments', title: $t('scores.assignments') },
  { name: 'scores', title: $t('scores.carryScores') },
  { name: 'unfinished', title: $t('scores.unfinishedWork') },
  { name: 'set-up', title: $t('scores.setUp') },
  { name: 'runs', title: $t('scores.runs') },
])
</script>

<template>
  <Oops :error="one.error.value" :again="one.refetch" />
  <template v-if="l">
    <PageHead :title="l.title">
      <template #about
        ><Signal :state="l.state" /> ·
        {{ l.comparedAt ? $t('scores.comparedAt', { at: when(l.comparedAt) }) : $t('scores.neverCompared')
        }}<template v-if="l.nextRun">
          · {{ $t('scores.runsNext', { at: when(l.nextRun) }) }}</template
        ></template
      >
      <template v-if="!l.ended">
        <Button
          size="small"
          variant="outlined"
          :label="l.paused ? $t('common.resume') : $t('common.pause')"
          :loading="pause.isPending.value"
          @click="pause.mutate(!l.paused)"
        />
        <Button size="small" variant="outlined" :label="$t('scores.endDialog')" @click="ended" />
      </template>
    </PageHead>
    <Oops :error="pause.error.value ?? end.error.value" />
    <Checklist v-if="!l.ended" class="steps" :list="l.checklist!" />
    <div class="sheet sides">
      <div>
        <small class="faint">{{ $t('scores.whereMarked') }}</small>
        <b>{{ l.source }}</b>
        <span class="faint">{{ $t('scores.classCalled', { name: l.sourceClass }) }}</span>
        <small>{{ $t('scores.changeScoreThere') }}</small>
        <FileSide v-if="l.sourceFiles" :id="l.sourceInterfaceId" :name="l.source" />
      </div>
      <span class="arrow" aria-hidden="true">→</span>
      <div>
        <small class="faint">{{ $t('scores.bookOfRecord') }}</small>
        <b>{{ l.book }}</b>
        <span class="faint">{{ l.sections.map((s) => `${s.title}: ${s.bookClass}`).join(' · ') }}</span>
        <small>{{ $t('scores.changeInBookStays') }}</small>
        <FileSide v-if="l.bookFiles" :id="l.bookInterfaceId" :name="l.book" book />
      </div>
    </div>
    <p v-if="l.trouble" class="sheet trouble" role="alert">
      <b>{{ $t('scores.notCompared', { why: l.trouble }) }}</b> {{ l.remedy }}
    </p>
    <Tabs v-model="tab" :label="$t('scores.parts')" :tabs="tabs" />
    <Carry v-if="tab === 'scores'" :link="l" />
    <SetUp v-else-if="tab === 'set-up'" :link="l" />
    <ScoreRuns v-else-if="tab === 'runs'" :link="l" />
    <UnfinishedWork v-else-if="tab === 'unfinished'" :link="l" />
    <Assignments v-else :link="l" @carry="tab = 'scores'" />
  </template>
</template>

<style scoped>
.sides {
  display: grid;
  grid-template-columns: 1fr auto 1fr;
  gap: 1rem;
  align-items: center;
  padding: 0.7rem 1rem;
}

.sides > div {
  display: grid;
  gap: 0.1rem;
}

.steps {
  margin: -0.5rem 0 0.6rem;
}

.arrow {
  font-size: 1.4rem;
  color: var(--faint);
}

.trouble {
  border-inline-start: 3px solid var(--signal);
  padding: 0.6rem 1rem;
}
</style>
