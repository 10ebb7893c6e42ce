<script setup lang="ts">
import { useMutation, useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import ProgressBar from 'primevue/progressbar'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, ok } from '../../api/client'
import { ask } from '../../parts/form/ask'
import FileField from '../../parts/form/FileField.vue'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import Signal from '../../parts/Signal.vue'
import { exactly } from '../../parts/when'
import { word } from '../../parts/words'
import { $t } from '../../texts'
import { uploadPackage } from '../connections/interface'
import RevertScores from '../scores/RevertScores.vue'
import ScoreReport from '../scores/ScoreReport.vue'
import People from './People.vue'
import Revert from './Revert.vue'
import { lasted, remaining, titleOf } from './run'

const props = defineProps<{ id: string }>()
const router = useRouter()
const path = computed(() => ({ params: { path: { id: props.id } } }))
const run = useQuery({
  queryKey: ['run', () => props.id],
  queryFn: () => ok(api.GET('/api/v1/runs/{id}', path.value)),
  // News come by themselves; this is for the moments when the line is down.
  refetchInterval: (q) => (q.state.data?.finishedAt ? false : 3_000),
})
const changes = useQuery({
  queryKey: ['run', () => props.id, 'changes'],
  queryFn: () => ok(api.GET('/api/v1/runs/{id}/changes', path.value)),
})
const differences = useQuery({
  queryKey: ['run', () => props.id, 'differences'],
  queryFn: async () => {
    const d = await ok(api.GET('/api/v1/runs/{id}/differences', path.value))
    return { ...d, items: d.items.map((x, key) => ({ ...x, key })) }
  },
  enabled: computed(() => run.data.value?.kind === 'read' && !!run.data.value.finishedAt),
})
const resume = useMutation({
  mutationFn: () => ok(api.POST('/api/v1/runs/{id}/resume', path.value)),
  onSuccess: () => run.refetch(),
})
const cancel = useMutation({
  mutationFn: () => ok(api.POST('/api/v1/runs/{id}/cancel', path.value)),
  onSuccess: () => run.refetch(),
})
// A read that the guard stopped can be approved by whoever has looked at the register.
const approve = useMutation({
  mutationFn: () =>
    ok(
      api.POST('/api/v1/interfaces/{id}/read', {
        params: { path: { id: r.value!.interfaceId! } },
        body: { approved: true },
      }),
    ),
  onSuccess: (next) => router.push(`/runs/${next.id}`),
})
const approveFile = useMutation({
  mutationFn: (file: File) => uploadPackage(r.value!.interfaceId!, file, true),
  onSuccess: (next) => router.push(`/runs/${next.id}`),
})
const register = useQuery({
  queryKey: ['interfaces', () => run.data.value?.interfaceId],
  queryFn: () =>
    ok(api.GET('/api/v1/interfaces/{id}', { params: { path: { id: run.data.value!.interfaceId! } } })),
  enabled: computed(() => run.data.value?.code === 'register-shrunk' && !!run.data.value.interfaceId),
})
const fromFiles = computed(
  () => register.data.value?.kind === 'oneroster-csv' && !register.data.value.settings.folder,
)

async function approved() {
  const yes = await ask({
    title: $t('pairings.readAgainWithoutGuard'),
    text: $t('pairings.isReadAgainAndWhoever', { about: r.value!.about }),
    yes: $t('common.readIt'),
    no: $t('pairings.leaveIt'),
  })
  if (yes) approve.mutate()
}
const undoing = ref(false)
const r = computed(() => run.data.value)
const changed = computed(() =>
  ['added', 'updated', 'removed', 'scored', 'replaced'].some((k) => (r.value?.counts[k] ?? 0) > 0),
)
const pace = computed(() => {
  const rate = r.value && r.value.rate >= 1 ? $t('pairings.second', { rate: Math.round(r.value.rate) }) : ''
  return `${lasted(r.value?.seconds ?? 0)}${rate}`
})
const active = computed(() => r.value && !r.value.finishedAt)
const percent = computed(() => (r.value?.total ? Math.round((100 * r.value.done) / r.value.total) : 0))

// What this run did comes first, then how everybody else stands.
const did = [
  'added',
  'updated',
  'changed',
  'removed',
  'gone',
  'refused',
  'not-arrived',
  'joined',
  'left',
  'sections-changed',
  'pairings-compared',
]
const stands = [
  'left-for-later',
  'needs-person',
  'waiting',
  'in-step',
  'left-out',
  'people',
  'courses',
  'sections',
  'enrolments',
]
const urgent = ['refused', 'not-arrived', 'needs-person']
const always = ['added', 'updated', 'removed']
const groups = computed(() =>
  [
    { title: $t('pairings.thisRun'), names: did },
    {
      title: r.value?.kind === 'read' ? $t('pairings.register') : $t('pairings.everybodyElse'),
      names: stands,
    },
  ].map((g) => ({
    ...g,
    names: g.names.filter(
      (k) => r.value && k in r.value.counts && (r.value.counts[k]! > 0 || always.includes(k)),
    ),
  })),
)
const people = computed(() =>
  changes.data.value?.items.map((c) => ({
    entry: c.entry,
    answer: c.answer,
    state:
      c.state === 'none'
        ? ['to-add', 'to-update', 'to-remove'].includes(c.entry.outcome)
          ? 'left-for-later'
          : c.entry.outcome
        : c.state === 'done'
          ? { 'to-add': 'added', 'to-update': 'updated', 'to-remove': 'removed' }[c.entry.outcome as string]!
          : c.state,
  })),
)
</script>

<template>
  <Oops :error="run.error.value" :again="run.refetch" />
  <template v-if="r">
    <PageHead :title="titleOf(r)">
      <template #about>
        <Signal :state="r.state" />{{ ' '
        }}<i18n-t keypath="pairings.startedByTo" scope="global"
          ><template #requestedBy>{{ r.requestedBy }}</template
          ><template #more
            ><template v-if="r.approvedBy">{{
              $t('pairings.removalsApprovedBy', { approvedBy: r.approvedBy })
            }}</template></template
          ><template #startedAt>{{ exactly(r.startedAt) }}</template
          ><template #finishedAt>{{ exactly(r.finishedAt) }}</template
          ><template #more2
            ><template v-if="r.finishedAt && r.startedAt"> · {{ pace }}</template></template
          >
          <template #more3
            ><template v-if="r.since"
              >{{ ' ' }}{{ $t('pairings.onlyWhatChangedSince', { since: exactly(r.since) }) }}</template
            ></template
          ></i18n-t
        >
      </template>
      <Button
        v-if="(r.state === 'failed' || r.state === 'cancelled') && r.kind !== 'read'"
        size="small"
        :label="$t('pairings.goOnFromWhereIt')"
        :loading="resume.isPending.value"
        @click="resume.mutate()"
      />
      <Button
        v-if="active"
        size="small"
        variant="outlined"
        :label="$t('pairings.stop')"
        :loading="cancel.isPending.value"
        @click="cancel.mutate()"
      />
      <Button
        v-if="r.kind !== 'read' && r.finishedAt && changed && !r.reverts && !r.revertedBy"
        size="small"
        variant="outlined"
        :label="$t('pairings.revertDialog')"
        @click="undoing = true"
      />
      <RouterLink v-if="r.revertedBy" :to="`/runs/${r.revertedBy}`">{{
        $t('pairings.wasReverted')
      }}</RouterLink>
      <RouterLink v-if="r.reverts" :to="`/runs/${r.reverts}`">{{ $t('pairings.runItReverts') }}</RouterLink>
      <RouterLink v-if="r.pairingId" :to="`/pairings/${r.pairingId}`">{{
        $t('pairings.toPairing')
      }}</RouterLink>
      <RouterLink v-if="r.scoreLinkId" :to="`/scores/${r.scoreLinkId}`">{{
        $t('pairings.toScoreLink')
      }}</RouterLink>
    </PageHead>
    <div v-if="active" class="progress" role="status">
      <ProgressBar
        :value="percent"
        :mode="r.total ? 'determinate' : 'indeterminate'"
        :show-value="false"
        style="height: 6px"
      />
      <span
        >{{
          $t('pairings.of', {
            done: r.done,
            total: r.total || '?',
            step: r.step || $t('pairings.queuedBehind', { n: r.ahead ?? 0 }, r.ahead ?? 0),
          })
        }}<template v-if="r.secondsLeft"> · {{ remaining(r.secondsLeft) }}</template></span
      >
      <span class="faint">{{ $t('pairings.youCanLeaveThisPage') }}</span>
    </div>
    <div v-if="r.error" class="stopped sheet" role="alert">
      <b>{{ r.error }}</b> {{ r.remedy }}
      <RouterLink
        v-if="r.nextPreview"
        :to="r.scoreLinkId ? `/scores/${r.scoreLinkId}?tab=scores` : `/pairings/${r.pairingId}`"
        >{{ $t('pairings.lookAtNewPreview') }}</RouterLink
      >
      <div v-if="register.data.value" class="actions approve">
        <FileField
          v-if="fromFiles"
          :label="$t('pairings.samePackageAgainWithoutGuard')"
          accept=".zip"
          @choose="([file]) => file && approveFile.mutate(file)"
        />
        <Button
          v-else
          size="small"
          variant="outlined"
          :label="$t('pairings.thatIsRightReadAgain')"
          :loading="approve.isPending.value"
          @click="approved"
        />
      </div>
    </div>
    <Oops
      :error="resume.error.value ?? cancel.error.value ?? approve.error.value ?? approveFile.error.value"
    />
    <RevertScores v-if="undoing && r.kind === 'scores'" :run-id="id" @close="undoing = false" />
    <Revert v-else-if="undoing" :run-id="id" @close="undoing = false" />
    <ScoreReport v-if="r.kind === 'scores'" :run="r" />
    <div v-else-if="r.finishedAt" class="report">
      <div v-for="g in groups" v-show="g.names.length" :key="g.title">
        <h2>{{ g.title }}</h2>
        <ul class="numbers">
          <li
            v-for="k in g.names"
            :key="k"
            class="sheet"
            :class="{ urgent: urgent.includes(k) && r.counts[k]! > 0 }"
          >
            <b>{{ r.counts[k] }}</b> {{ word(k, r.counts[k]) }}
          </li>
        </ul>
      </div>
    </div>
    <template v-if="r.findings.length">
      <h2>{{ $t('pairings.noticed') }}</h2>
      <div v-for="(f, i) in r.findings" :key="i" class="finding">
        <b>{{ f.title }}</b> {{ f.subject }} <span class="faint">{{ f.detail }}</span>
      </div>
    </template>
    <template v-if="differences.data.value?.items.length">
      <h2>
        {{ $t('pairings.whatChangedInRegister') }}
        <span v-if="differences.data.value.more" class="faint">{{ $t('pairings.first500OfEachKind') }}</span>
      </h2>
      <Listing :rows="differences.data.value.items" row-key="key" :loading="false" :error="null" empty="">
        <Column field="table" :header="$t('common.kind')" />
        <Column field="who" :header="$t('pairings.whoOrWhat')" />
        <Column field="field" :header="$t('pairings.field')" />
        <Column field="before" :header="$t('pairings.before')" />
        <Column field="after" :header="$t('pairings.now')" />
      </Listing>
    </template>
    <Oops :error="differences.error.value" />
    <template v-if="r.kind === 'sync'">
      <h2>{{ $t('pairings.everybodyWithWhatHappenedAnd') }}</h2>
      <People
        :people="people"
        :loading="changes.isLoading.value"
        :error="changes.error.value"
        :again="changes.refetch"
      />
    </template>
  </template>
</template>

<style scoped>
.progress {
  display: grid;
  gap: 0.35rem;
  margin-bottom: 1rem;
}

.stopped {
  border-inline-start: 3px solid var(--signal);
  padding: 0.7rem 0.9rem;
}

.approve {
  margin-top: 0.5rem;
}

.report {
  display: flex;
  gap: 2.5rem;
}

.report h2 {
  margin: 0.6rem 0 0;
}

.numbers {
  list-style: none;
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem;
  padding: 0;
  margin: 0.4rem 0 0;
}

.numbers li {
  padding: 0.35rem 0.8rem;
}

.numbers b {
  font: 400 1.35rem/1.2 var(--serif);
  display: block;
}

.urgent {
  color: var(--signal);
  border-color: var(--signal);
}

.finding {
  padding: 0.25rem 0;
  border-bottom: 1px solid var(--hair);
}
</style>
