<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, ifMatch, ok } from '../../api/client'
import Checklist from '../../parts/Checklist.vue'
import Counts from '../../parts/Counts.vue'
import TickField from '../../parts/form/TickField.vue'
import Oops from '../../parts/Oops.vue'
import Outside from '../../parts/Outside.vue'
import PageHead from '../../parts/PageHead.vue'
import Signal from '../../parts/Signal.vue'
import { when } from '../../parts/when'
import { may } from '../../shell/may'
import { $t } from '../../texts'
import { notices } from './notices'
import People from './People.vue'
import PolicyCard from './PolicyCard.vue'
import Standing from './Standing.vue'

const props = defineProps<{ id: string }>()
const router = useRouter()
const queries = useQueryClient()
const path = computed(() => ({ params: { path: { id: props.id } } }))

const pairing = useQuery({
  queryKey: ['pairing', () => props.id],
  queryFn: () => ok(api.GET('/api/v1/pairings/{id}', path.value)),
})
const history = useQuery({
  queryKey: ['runs', () => props.id],
  queryFn: () => ok(api.GET('/api/v1/runs', { params: { query: { pairing: props.id, limit: 8 } } })),
})
// A preview is made once when the page opens and again when asked: it stays as
// it was shown, because a run does exactly it.
const preview = useQuery({
  queryKey: ['preview', () => props.id],
  queryFn: () => ok(api.POST('/api/v1/pairings/{id}/previews', path.value)),
  staleTime: Infinity,
  gcTime: 0,
  refetchOnWindowFocus: false,
})
const approved = ref(false)
const only = ref<string[]>([])
watch(preview.data, () => (only.value = []))
const run = useMutation({
  mutationFn: () =>
    ok(
      api.POST('/api/v1/runs', {
        body: { previewId: preview.data.value!.id, approved: approved.value, only: only.value },
      }),
    ),
  onSuccess: (r) => router.push(`/runs/${r.id}`),
})
const pause = useMutation({
  mutationFn: (paused: boolean) =>
    ok(
      api.PATCH('/api/v1/pairings/{id}', {
        params: { path: { id: props.id }, header: ifMatch(p.value?.version) },
        body: { paused },
      }),
    ),
  onSuccess: () => queries.invalidateQueries({ queryKey: ['pairing'] }),
})
const p = computed(() => pairing.data.value)
const runLabel = computed(() => {
  const n = preview.data.value?.changes ?? 0
  if (only.value.length) return $t('pairings.runOnlyThese', { only: only.value.length })
  return n ? $t('pairings.run1Change', { n }, n) : $t('pairings.runNothingToChange')
})
const blocked = computed(() => !!preview.data.value?.guard && !approved.value && !only.value.length)
</script>

<template>
  <Oops :error="pairing.error.value" :again="pairing.refetch" />
  <template v-if="p">
    <PageHead :title="`${p.section.title} → ${p.target}`">
      <template #about>
        <Signal :state="p.section.state" />{{ ' '
        }}<i18n-t keypath="pairings.lastRun" scope="global"
          ><template #list>{{
            [p.section.list && $t('pairings.peopleList'), p.section.course, p.section.terms.join(', ')]
              .filter(Boolean)
              .join(' · ')
          }}</template
          ><template #page
            ><Outside
              :to="p.section.targetPage"
              :text="$t('pairings.at', { interface: p.section.interface })"
          /></template>
          <template #more
            ><template v-if="p.section.page">
              · <Outside :to="p.section.page" :text="$t('pairings.inRegisterWord')" /></template></template
          ><template #ranAt>{{ when(p.section.ranAt) }}</template></i18n-t
        >
      </template>
      <RouterLink :to="`/pairings/${id}/compare`">{{ $t('pairings.sideBySide') }}</RouterLink>
      <RouterLink :to="`/sections/${p.section.id}/roster`">{{ $t('pairings.roster') }}</RouterLink>
      <Button
        v-if="may('rosters')"
        size="small"
        variant="outlined"
        :label="p.paused ? $t('common.resume') : $t('common.pause')"
        @click="pause.mutate(!p.paused)"
      />
      <Button
        size="small"
        variant="outlined"
        :label="$t('pairings.compareAgain')"
        :loading="preview.isFetching.value"
        @click="preview.refetch()"
      />
      <Button
        v-if="preview.data.value"
        size="small"
        :label="runLabel"
        :disabled="blocked || p.paused"
        :loading="run.isPending.value"
        @click="run.mutate()"
      />
    </PageHead>
    <Standing :pairing="p" />
    <Oops :error="run.error.value ?? pause.error.value" />
    <p v-if="preview.data.value?.guard" class="guard sheet">
      {{ $t('pairings.peopleWouldBeTakenOut', { guard: preview.data.value.guard }) }}
      <TickField v-model="approved" :label="$t('pairings.thatIsRightTakeThem')" />
    </p>
    <div class="two">
      <section :aria-label="$t('pairings.preview')">
        <h2>{{ $t('pairings.whatRunWouldDoPerson') }}</h2>
        <Counts v-if="preview.data.value" :counts="preview.data.value.counts" />
        <p v-if="preview.data.value?.newAccounts" class="faint small">
          {{
            $t('pairings.accountsToBeMade', {
              newAccounts: preview.data.value.newAccounts,
              notices: notices[preview.data.value.notice],
            })
          }}
        </p>
        <p v-if="preview.data.value?.takeOver" class="faint small">
          {{
            $t('pairings.inClassAlreadyAreOurs', {
              takeOver: preview.data.value.takeOver,
              strangers: preview.data.value.strangers ?? 0,
            })
          }}
        </p>
        <People
          v-model:ticked="only"
          :people="preview.data.value?.entries.map((e) => ({ entry: e, state: e.outcome }))"
          :loading="preview.isLoading.value"
          :error="preview.error.value"
          :again="preview.refetch"
        />
      </section>
      <aside>
        <h2>{{ $t('common.setUp') }}</h2>
        <Checklist v-if="p.checklist" :list="p.checklist" />
        <template v-if="p.freshness">
          <h2>{{ $t('pairings.freshness') }}</h2>
          <dl class="facts">
            <dt>{{ $t('pairings.registerRead') }}</dt>
            <dd>{{ when(p.freshness.readAt) }}</dd>
            <dt>{{ $t('pairings.compared') }}</dt>
            <dd>{{ when(p.freshness.comparedAt) }}</dd>
            <dt>{{ $t('pairings.nextRead') }}</dt>
            <dd>{{ when(p.freshness.nextRead) }}</dd>
          </dl>
          <p v-if="p.freshness.stoppedBy" class="faint small">‖ {{ p.freshness.stoppedBy }}</p>
        </template>
        <PolicyCard :pairing="p" :notice="preview.data.value?.notice" />
        <h2>{{ $t('pairings.runs') }}</h2>
        <p v-if="!history.data.value?.items.length" class="faint">{{ $t('pairings.noneYetFirstRunIs') }}</p>
        <RouterLink v-for="r in history.data.value?.items" :key="r.id" class="run" :to="`/runs/${r.id}`">
          <Signal :state="r.state" /> <span class="faint">{{ when(r.createdAt) }}</span>
        </RouterLink>
        <RouterLink v-if="history.data.value?.next" class="small" :to="`/runs?pairing=${id}`">{{
          $t('pairings.allOfThem')
        }}</RouterLink>
      </aside>
    </div>
  </template>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 15rem;
  gap: 1.6rem;
}

.guard {
  padding: 0.7rem 0.9rem;
  border-inline-start: 3px solid var(--signal);
  color: var(--signal);
}

.small {
  font-size: 12.5px;
  margin: 0.3rem 0 0;
}

.run {
  display: flex;
  justify-content: space-between;
  padding: 0.25rem 0;
  border-bottom: 1px solid var(--hair);
  text-decoration: none;
  font-size: 13px;
}

.run .faint {
  font-size: 12px;
  white-space: nowrap;
}
</style>
