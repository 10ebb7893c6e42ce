<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, ok, type Schemas } from '../../api/client'
import Counts from '../../parts/Counts.vue'
import DetailFields from '../../parts/DetailFields.vue'
import TextField from '../../parts/form/TextField.vue'
import TickField from '../../parts/form/TickField.vue'
import { letGo, useUnsaved } from '../../parts/form/typed'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import Signal from '../../parts/Signal.vue'
import { became } from '../../parts/words'
import { $t } from '../../texts'
import { remaining, secondsLeft } from '../pairings/run'
import { titleOf } from './acts'

/** What something means for many, the exceptions first; then what became of it. */
const props = defineProps<{ id: string }>()
const queries = useQueryClient()
const router = useRouter()
const path = computed(() => ({ params: { path: { id: props.id } } }))
const batch = useQuery({
  queryKey: ['batch', () => props.id],
  queryFn: () => ok(api.GET('/api/v1/batches/{id}', path.value)),
})
const approved = ref(false)
const go = useMutation({
  mutationFn: () =>
    ok(api.POST('/api/v1/batches/{id}/do', { ...path.value, body: { approved: approved.value } })),
  onSuccess: async (b) => {
    queries.setQueryData(['batch', props.id], b)
    await queries.invalidateQueries({ queryKey: ['batch'] })
  },
})
const b = computed(() => batch.data.value)
const possible = computed(() => (b.value ? b.value.items.length - b.value.blocked : 0))
const runs = computed(() => Object.values(b.value?.runs ?? {}).reduce((n, x) => n + x, 0))
const ended = computed(() => runs.value - (b.value?.runs.queued ?? 0) - (b.value?.runs.running ?? 0))
const linked = computed(() => b.value?.items.filter((i) => i.setId).length ?? 0)
// What the service wants to know of classes and nothing says is asked for once, for all.
const missing = computed(() => [...new Set(b.value?.items.flatMap((i) => i.missing ?? []) ?? [])])
const details = ref<Record<string, string>>({})
// Single classes may be called otherwise than the template says.
const names = ref<Record<string, string>>({})
const nameOf = (i: Schemas['BatchItem']) => names.value[i.sectionId!] ?? i.target
const renamed = computed(
  () => b.value?.items.filter((i) => i.sectionId && nameOf(i).trim() !== i.target).length ?? 0,
)
useUnsaved(() => renamed.value > 0)
const canName = computed(() => b.value?.order.act === 'pair' && !b.value.appliedAt)
watch(
  () => props.id,
  () => ((names.value = {}), (details.value = {})),
)
const again = useMutation({
  mutationFn: () => {
    const { order, items } = b.value!
    const mine = items.filter((i) => i.sectionId && nameOf(i).trim() !== i.target)
    return ok(
      api.POST('/api/v1/batches', {
        body: {
          ...order,
          // A linked set goes by the section that leads it.
          sections: mine.length || order.names ? items.map((i) => i.sectionId!) : order.sections,
          names: { ...order.names, ...Object.fromEntries(mine.map((i) => [i.sectionId!, nameOf(i).trim()])) },
          details: { ...order.details, ...details.value },
        },
      }),
    )
  },
  onSuccess: (next) => {
    letGo()
    return router.replace(`/batches/${next.id}`)
  },
})
const problems = computed(() => b.value?.items.filter((i) => i.problem).length ?? 0)

function notes(i: Schemas['BatchItem']) {
  const list = i.remarks.map((r) => r.detail)
  if (i.guard && !i.done) list.push($t('batches.peopleWouldBeTakenOut', { guard: i.guard }))
  if (i.says) list.push(i.says)
  return list
}
// It is looked at anew whenever there is news of the batch.
const left = computed(() => b.value && secondsLeft(b.value.appliedAt, b.value.peopleDone, b.value.people))
</script>

<template>
  <Oops :error="batch.error.value" :again="batch.refetch" />
  <template v-if="b">
    <PageHead :title="titleOf(b.order.act)">
      <template #about>
        <template v-if="!b.appliedAt">{{ $t('batches.nothingHasBeenDoneYet') }}</template>
        <template v-else-if="b.tried < b.items.length">{{
          $t('batches.ofAreDealtWithThis', { tried: b.tried, items: b.items.length })
        }}</template>
        <template v-else-if="!b.done"
          >{{
            $t('batches.ofPeopleOfRunsHave', {
              peopleDone: b.peopleDone,
              people: b.people || '?',
              ended,
              runs,
            })
          }}<template v-if="left"> · {{ remaining(left) }}</template></template
        >
        <template v-else
          >{{
            $t('batches.done', {
              runs: runs ? $t('batches.ofRunsEnded', { ended, runs }) : '',
              problems: problems ? $t('batches.couldNotBeDone', { problems }) : '',
            })
          }}
        </template>
      </template>
      <RouterLink to="/batches">{{ $t('batches.allBatches') }}</RouterLink>
      <Button
        v-if="!b.appliedAt"
        size="small"
        :label="$t('batches.doExactlyThis', { possible })"
        :disabled="!possible || !!renamed"
        :title="renamed ? $t('batches.lookAgainWithNewNames') : undefined"
        :loading="go.isPending.value"
        @click="go.mutate()"
      />
    </PageHead>
    <Oops :error="go.error.value" />
    <progress
      v-if="b.appliedAt && !b.done"
      :value="b.tried < b.items.length ? b.tried : b.peopleDone"
      :max="b.tried < b.items.length ? b.items.length : b.people || 1"
      :aria-label="b.tried < b.items.length ? $t('batches.dealtWith') : $t('batches.peopleDoneWith')"
    />
    <form v-if="!b.appliedAt && missing.length" class="sheet guard" @submit.prevent="again.mutate()">
      <p>
        {{ $t('batches.serviceWantsToKnowMore', { items: b.items.filter((i) => i.missing?.length).length }) }}
      </p>
      <DetailFields v-model="details" :missing="missing" />
      <Button
        type="submit"
        size="small"
        variant="outlined"
        :label="$t('batches.lookAgainWithThese')"
        :disabled="!Object.values(details).some(Boolean)"
        :loading="again.isPending.value"
      />
      <Oops :error="again.error.value" />
    </form>
    <form v-if="renamed" class="sheet guard" @submit.prevent="again.mutate()">
      <p>{{ $t('batches.oneClassIsToHave', { renamed }, renamed) }}</p>
      <div class="actions">
        <Button
          type="submit"
          size="small"
          variant="outlined"
          :label="$t('batches.lookAgainWithTheseNames')"
          :loading="again.isPending.value"
        />
        <Button
          type="button"
          size="small"
          variant="text"
          :label="$t('batches.asItWas')"
          @click="names = {}"
        />
      </div>
      <Oops :error="again.error.value" />
    </form>
    <p v-if="!b.appliedAt && b.guarded" class="guard sheet">
      {{ $t('batches.ofTheseWouldTakeOut', { guarded: b.guarded }) }}
      <TickField v-model="approved" :label="$t('batches.thatIsRightTakeThem')" />
    </p>
    <p v-if="b.done" class="sheet ended" role="status">
      <b>{{ $t('batches.thisHasEnded') }}</b>
      <template v-if="b.order.act === 'link'"
        >{{ $t('batches.ofLinked', { linked, items: b.items.length }) }}
        <RouterLink to="/sections/linked">{{ $t('batches.seeSets') }}</RouterLink></template
      >
      <template v-else>{{ became(b.did) || $t('batches.nobodyWasChanged') }}</template>
      <span v-if="problems" class="bad">{{ $t('batches.couldNotBeDoneSee', { problems }) }}</span>
    </p>
    <div v-if="!b.done && Object.keys(b.counts).length" class="totals">
      <h2>{{ $t('batches.allTogether') }}</h2>
      <Counts :counts="b.counts" />
      <p v-if="b.newAccounts" class="faint small">
        {{ $t('batches.accountsToBeMade', { newAccounts: b.newAccounts }) }}
      </p>
    </div>
    <Listing
      :rows="b.items"
      :loading="false"
      :error="null"
      row-key="title"
      :empty="$t('batches.nothingWasChosen')"
    >
      <Column style="width: 9rem">
        <template #body="{ data }">
          <Signal v-if="data.runState" :state="data.runState" />
          <span v-else-if="data.problem || data.blocked" class="bad"
            >▲ {{ data.blocked ? $t('batches.cannotBeDone') : $t('batches.notDone') }}</span
          >
          <span v-else-if="data.done">{{ $t('batches.doneSign') }}</span>
          <span v-else-if="data.guard || data.remarks.length">{{ $t('batches.lookFirst') }}</span>
          <span v-else class="faint">{{ $t('batches.ready') }}</span>
        </template>
      </Column>
      <Column :header="b.order.act === 'link' ? $t('batches.set') : $t('common.section')">
        <template #body="{ data }">
          <RouterLink v-if="data.runId" :to="`/runs/${data.runId}`">{{ data.title }}</RouterLink>
          <RouterLink v-else-if="data.pairingId" :to="`/pairings/${data.pairingId}`">{{
            data.title
          }}</RouterLink>
          <template v-else>{{ data.title }}</template>
          <span v-if="data.to" class="faint"> → {{ data.to }}</span>
        </template>
      </Column>
      <Column :header="$t('common.class')" style="min-width: 17rem">
        <template #body="{ data }"
          ><TextField
            v-if="canName && data.sectionId"
            :model-value="nameOf(data)"
            hidden
            :maxlength="200"
            :label="$t('batches.nameOfClassOf', { title: data.title })"
            @update:model-value="(name) => (names[data.sectionId] = name ?? '')"
          /><template v-else>{{ data.target }}</template></template
        >
      </Column>
      <Column :header="$t('common.people')"
        ><template #body="{ data }"
          ><template v-if="b.order.act === 'link'" /><template v-else-if="data.did">{{
            became(data.did) || $t('batches.nobodyChanged')
          }}</template
          ><Counts v-else :counts="data.counts" /></template
      ></Column>
      <Column :header="$t('batches.whatToKnow')">
        <template #body="{ data }">
          <span v-if="data.problem" class="bad">{{ data.problem }}</span>
          <span v-for="n in notes(data)" :key="n" class="note">{{ n }}</span>
        </template>
      </Column>
    </Listing>
  </template>
</template>

<style scoped>
:deep(td .bare) {
  display: flex;
}

.totals {
  max-width: 40rem;
  margin-bottom: 1rem;
}

.ended {
  padding: 0.6rem 0.9rem;
}

.guard {
  padding: 0.7rem 0.9rem;
  border-inline-start: 3px solid var(--signal);
  color: var(--signal);
}

.bad {
  color: var(--signal);
}

.note {
  display: block;
  font-size: 12.5px;
}

.small {
  font-size: 12.5px;
  margin: 0.2rem 0 0;
}

progress {
  width: 100%;
  accent-color: var(--calm);
}
</style>
