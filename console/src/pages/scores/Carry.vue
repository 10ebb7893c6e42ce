<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, ok, type Schemas } from '../../api/client'
import { refresh } from '../../api/live'
import { useAddress } from '../../parts/address'
import { ask } from '../../parts/form/ask'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import TextField from '../../parts/form/TextField.vue'
import TickField from '../../parts/form/TickField.vue'
import Oops from '../../parts/Oops.vue'
import Tabs from '../../parts/Tabs.vue'
import { when } from '../../parts/when'
import { word } from '../../parts/words'
import { $t } from '../../texts'
import Lines from './Lines.vue'
import ScoreCounts from './ScoreCounts.vue'
import { changes, type Line, linesOf, outcomes } from './scores'
import WhoseDialog from './WhoseDialog.vue'

/** What a run would do, score by score; and does exactly that. */
const props = defineProps<{ link: Schemas['ScoreLink'] }>()
const queries = useQueryClient()
const router = useRouter()
const address = useAddress()
const outcome = address.kept('outcome', 'matters')
const text = address.kept('find', '', true)
const path = computed(() => ({ path: { id: props.link.id } }))
const preview = useQuery({
  queryKey: ['score-preview', () => props.link.id],
  queryFn: () => ok(api.POST('/api/v1/score-links/{id}/previews', { params: path.value })),
  staleTime: Infinity,
  gcTime: 0,
  retry: false,
  refetchOnWindowFocus: false,
})
const p = computed(() => preview.data.value)
const lines = computed(() => (p.value ? linesOf(p.value) : []))
const quietOutcomes = ['unchanged', 'book-only']
const shown = computed(() => {
  const find = text.value.trim().toLowerCase()
  const fits = (x: Line) =>
    outcome.value === 'all' ||
    (outcome.value === 'matters'
      ? !quietOutcomes.includes(x.entry.outcome)
      : x.entry.outcome === outcome.value)
  return lines.value.filter(
    (x) => fits(x) && (x.name.toLowerCase().includes(find) || x.title.toLowerCase().includes(find)),
  )
})
const tabs = computed(() => [
  {
    name: 'matters',
    title: $t('scores.whatMatters'),
    count: lines.value.filter((x) => !quietOutcomes.includes(x.entry.outcome)).length,
  },
  ...outcomes
    .filter((o) => p.value?.counts[o])
    .map((o) => ({ name: o, title: word(`score-${o}`), count: p.value!.counts[o] })),
  { name: 'all', title: $t('scores.sideBySide'), count: lines.value.length },
])

// Which assignments are carried: all until somebody leaves one out.
const items = computed(
  () => p.value?.items.filter((i) => i.outcome === 'made' || changes(i.counts) > 0) ?? [],
)
const skipped = ref(new Set<string>())
watch(p, () => (skipped.value = new Set()))
function toggle(id: string) {
  if (!skipped.value.delete(id)) skipped.value.add(id)
  skipped.value = new Set(skipped.value)
}
const only = computed(() => items.value.filter((i) => !skipped.value.has(i.id)))
const todo = computed(() => ({
  scores: only.value.reduce((n, i) => n + changes(i.counts), 0),
  makes: only.value.filter((i) => i.outcome === 'made').length,
  losses: only.value.reduce(
    (n, i) => n + i.entries.filter((e) => e.outcome === 'replace' && e.theirs.text !== '–').length,
    0,
  ),
}))
const rosterFirst = ref(false)
watch(p, (now) => {
  if (!now?.rosterHeld) rosterFirst.value = false
})
const run = useMutation({
  mutationFn: () =>
    ok(
      api.POST('/api/v1/score-previews/{id}/run', {
        params: { path: { id: p.value!.id } },
        body: {
          only: skipped.value.size ? only.value.map((i) => i.id) : undefined,
          approved: todo.value.losses > 0,
          rosterFirst: rosterFirst.value,
        },
      }),
    ),
  onSuccess: (r) => router.push(`/runs/${r.id}`),
})
async function start() {
  if (
    todo.value.losses > 0 &&
    !(await ask({
      title: $t('scores.replaceValues', { n: todo.value.losses }, todo.value.losses),
      text: $t('scores.replaceAbout'),
      yes: $t('scores.replace'),
      no: $t('scores.leaveIt'),
    }))
  )
    return
  run.mutate()
}
const decide = useMutation({
  mutationFn: (d: { take: 'theirs' | 'ours'; line?: Line; assignments?: string[] }) =>
    ok(
      api.POST('/api/v1/score-links/{id}/decisions', {
        params: path.value,
        body: {
          take: d.take,
          assignments: d.line ? [d.line.item.id] : d.assignments,
          people: d.line ? [d.line.entry.who] : undefined,
        },
      }),
    ),
  onSuccess: async () => {
    await preview.refetch()
    await refresh(queries, 'scoreLink')
  },
})
/** The grading periods whose scores differ, for deciding about one of them at once. */
const differing = computed(() => {
  const items = p.value?.items.filter((i) => i.counts.conflict) ?? []
  const periods = new Map<string, { title: string; ids: string[]; n: number }>()
  for (const i of items) {
    const at = periods.get(i.periodId ?? '') ?? {
      title: i.period ?? $t('scores.withoutPeriod'),
      ids: [],
      n: 0,
    }
    at.ids.push(i.id)
    at.n += i.counts.conflict!
    periods.set(i.periodId ?? '', at)
  }
  return periods
})
const periodChoices = computed(() => [
  { value: '*', label: $t('scores.everyPeriod') },
  ...[...differing.value].map(([value, x]) => ({
    value,
    label: `${x.title} (${x.n})`,
  })),
])
const period = ref('*')
watch(differing, (now) => {
  if (!now.has(period.value)) period.value = '*'
})
function decideAll(take: 'theirs' | 'ours') {
  decide.mutate({ take, assignments: differing.value.get(period.value)?.ids })
}
async function goOn(line: Line) {
  const section = line.entry.elsewhere!
  const sure = await ask({
    title: $t('scores.goOnTitle', { name: line.name, section }),
    text: $t('scores.goOnAbout', { section, old: line.section }),
    yes: $t('scores.goOn'),
    no: $t('common.cancel'),
  })
  if (sure) move.mutate(line)
}
const move = useMutation({
  mutationFn: (line: Line) =>
    ok(
      api.POST('/api/v1/score-links/{id}/owners', {
        params: path.value,
        body: { personId: line.entry.personId, sectionId: line.entry.elsewhereId },
      }),
    ),
  onSuccess: () => given(),
})
const asking = ref<string>()
async function given() {
  asking.value = undefined
  await preview.refetch()
  await refresh(queries, 'scoreLink')
}
const quiet = computed(() => p.value && !p.value.changes && !p.value.makes)
</script>

<template>
  <Oops :error="preview.error.value" :again="preview.refetch" />
  <p v-if="preview.isFetching.value && !p" class="sheet waiting faint" role="status" aria-busy="true">
    {{ $t('scores.readingBothSides') }}
  </p>
  <template v-if="p">
    <div class="sheet head">
      <div>
        <ScoreCounts :counts="p.counts" />
        <small class="faint">{{
          $t('scores.readAt', { source: when(p.sourceRead), book: when(p.bookRead) })
        }}</small>
      </div>
      <span class="grow" />
      <Button
        size="small"
        variant="outlined"
        :label="$t('scores.lookAnew')"
        :loading="preview.isFetching.value"
        @click="preview.refetch()"
      />
      <Button
        size="small"
        :label="
          todo.scores || todo.makes
            ? $t('scores.carryNow', {
                scores: $t('scores.scoreCount', { n: todo.scores }, todo.scores),
                makes: $t('scores.assignmentCount', { n: todo.makes }, todo.makes),
              })
            : rosterFirst
              ? $t('scores.rosterAndCarry')
              : $t('scores.nothingToCarry')
        "
        :disabled="!todo.scores && !todo.makes && !rosterFirst"
        :loading="run.isPending.value"
        @click="start"
      />
    </div>
    <Oops :error="run.error.value ?? decide.error.value ?? move.error.value" />
    <TickField v-if="p.rosterHeld" v-model="rosterFirst" :label="$t('scores.rosterFirst')"
      >{{ $t('scores.rosterFirst') }}{{ ' ' }}
      <span class="faint">{{ $t('scores.rosterHeld', { n: p.rosterHeld }, p.rosterHeld) }}</span></TickField
    >
    <div v-if="quiet" class="sheet quiet" role="status">
      <b>{{ $t('scores.nothingNew') }}</b>
      <ul>
        <li v-for="r in p.reasons" :key="`${r.code} ${r.outcome}`">
          {{
            $t('scores.scoresInAssignments', {
              scores: $t('scores.scoreCount', { n: r.scores }, r.scores),
              items: $t('scores.assignmentCount', { n: r.items }, r.items),
              why: r.title,
            })
          }}
          <span class="faint">{{ r.remedy }}</span>
        </li>
      </ul>
    </div>
    <details v-for="u in p.unread" :key="u.gradebook" class="sheet which unread">
      <summary>{{ $t('scores.notUnderstood', { n: u.count, name: u.gradebook }, u.count) }}</summary>
      <ul>
        <li v-for="x in u.first" :key="`${x.collection} ${x.position}`">
          {{ x.collection }} {{ x.position }}: {{ x.problem }}
        </li>
      </ul>
    </details>
    <p v-if="p.categories.length" class="faint">
      {{ $t('scores.categoriesMade', { names: p.categories.join(', ') }) }}
    </p>
    <details v-if="items.length" class="sheet which" :open="items.length < 4">
      <summary>{{ $t('scores.whichAreCarried', { n: only.length, all: items.length }) }}</summary>
      <TickField
        v-for="i in items"
        :key="i.id"
        :model-value="!skipped.has(i.id)"
        :label="`${i.title}, ${i.section}`"
        @update:model-value="toggle(i.id)"
        >{{ i.title }} <span class="faint">{{ i.section }} ·{{ ' ' }}</span
        ><template v-if="i.outcome === 'made'">{{ $t('scores.isMade') }}, </template
        >{{ $t('scores.scoreCount', { n: changes(i.counts) }, changes(i.counts)) }}</TickField
      >
    </details>
    <div v-if="p.counts.conflict" class="both">
      <b>{{ $t('scores.differ', { n: p.counts.conflict }, p.counts.conflict) }}</b>
      <ChoiceField
        v-if="differing.size > 1"
        v-model="period"
        hidden
        :label="$t('scores.decideFor')"
        :options="periodChoices"
      />
      <Button
        size="small"
        variant="outlined"
        :label="$t('scores.keepAllOfBook')"
        :loading="decide.isPending.value"
        @click="decideAll('theirs')"
      />
      <Button
        size="small"
        variant="outlined"
        :label="$t('scores.carryAllOurs')"
        :loading="decide.isPending.value"
        @click="decideAll('ours')"
      />
    </div>
    <div class="filter">
      <Tabs v-model="outcome" :label="$t('scores.which')" :tabs="tabs" />
      <TextField
        v-model="text"
        hidden
        type="search"
        :label="$t('common.find')"
        :placeholder="$t('common.find')"
      />
    </div>
    <Lines
      :lines="shown"
      :codes="p.codes"
      :empty="$t('scores.noScoreFits')"
      decides
      @decide="(line, take) => decide.mutate({ take, line })"
      @go-on="goOn"
      @whose="(line) => (asking = line.entry.student)"
    />
    <WhoseDialog v-if="asking" :link="link" :student="asking" @close="asking = undefined" @done="given" />
  </template>
</template>

<style scoped>
.waiting,
.quiet,
.which {
  padding: 0.7rem 1rem;
  margin: 0.5rem 0;
}

.unread {
  border-inline-start: 3px solid var(--signal);
}

.head {
  display: flex;
  gap: 0.6rem;
  align-items: center;
  padding: 0.6rem 1rem;
}

.grow {
  flex: 1;
}

.quiet ul {
  margin: 0.3rem 0 0;
  padding-inline-start: 1.2rem;
}

.both,
.filter {
  display: flex;
  gap: 0.8rem;
  align-items: center;
  flex-wrap: wrap;
  margin: 0.5rem 0;
}

.filter {
  justify-content: space-between;
}
</style>
