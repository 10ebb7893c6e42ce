<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, defineAsyncComponent, ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import Signal from '../../parts/Signal.vue'
import { when } from '../../parts/when'
import { $t } from '../../texts'
import HandDialog from './HandDialog.vue'
import MissingPeople from './MissingPeople.vue'

const LinkDialog = defineAsyncComponent(() => import('../sections/LinkDialog.vue'))

/** One section of a teacher's own: who is missing and why, what they can do about it, and whom they ask. */
const props = defineProps<{ id: string }>()
const queries = useQueryClient()
const page = useQuery({
  queryKey: ['teaching', 'one', () => props.id],
  queryFn: () => ok(api.GET('/api/v1/teaching/{id}', { params: { path: { id: props.id } } })),
})
const s = computed(() => page.data.value)
const fresh = () => queries.invalidateQueries({ queryKey: ['teaching'] })
const said = ref('')
const sync = useMutation({
  mutationFn: () => ok(api.POST('/api/v1/pairings/sync', { body: { pairings: [s.value!.pairingId!] } })),
  onSuccess: (q) => {
    said.value = q.pairings ? $t('teaching.syncing') : $t('teaching.notSyncing')
    return fresh()
  },
})
const path = computed(() => ({ params: { path: { id: s.value?.pairingId ?? '' } } }))
const open = useMutation({
  mutationFn: (yes: boolean): Promise<unknown> =>
    yes
      ? ok(api.POST('/api/v1/pairings/{id}/open', { ...path.value, body: {} }))
      : ok(api.POST('/api/v1/pairings/{id}/hold', path.value)),
  onSuccess: (_, yes) => {
    said.value = yes ? $t('teaching.opened') : $t('teaching.heldNow')
    return fresh()
  },
})
const linking = ref(false)
const handing = ref<Schemas['MissingPerson']>()
const need = computed(() => s.value?.people.filter((p) => !p.waiting) ?? [])
const wait = computed(() => s.value?.people.filter((p) => p.waiting) ?? [])
</script>

<template>
  <Oops :error="page.error.value" :again="page.refetch" />
  <template v-if="s">
    <PageHead :title="s.shortName || s.title">
      <template #about
        >{{
          [s.shortName && s.title, s.code, s.terms.join(', '), $t('board.learners', { learners: s.learners })]
            .filter(Boolean)
            .join(' · ')
        }}
        · <RouterLink :to="`/sections/${s.own}/roster`">{{ $t('teaching.whoIsInIt') }}</RouterLink></template
      >
      <template v-if="s.pairingId && s.current">
        <Button
          size="small"
          :label="$t('teaching.syncNow')"
          :loading="sync.isPending.value"
          :disabled="s.running"
          @click="sync.mutate()"
        />
        <Button
          size="small"
          variant="outlined"
          :label="s.held ? $t('teaching.openClass') : $t('teaching.holdClass')"
          :title="s.held ? $t('teaching.openClassAbout') : $t('teaching.holdClassAbout')"
          :loading="open.isPending.value"
          @click="open.mutate(s.held)"
        />
      </template>
      <Button
        v-if="!s.set && s.current"
        size="small"
        variant="outlined"
        :label="$t('teaching.link')"
        @click="linking = true"
      />
    </PageHead>
    <Oops :error="sync.error.value ?? open.error.value" />
    <p v-if="said" role="status">{{ said }}</p>
    <section class="sheet now" :aria-label="$t('teaching.now')">
      <Signal :state="s.running ? 'running' : s.state" />
      <span v-if="s.target"
        >→ {{ s.target }} <span class="faint">{{ $t('board.at', { interface: s.interface }) }}</span></span
      >
      <span v-if="s.percent !== undefined">{{ $t('teaching.onAverage', { percent: s.percent }) }}</span>
      <span v-if="s.comparedAt" class="faint">{{
        $t('teaching.comparedAt', { at: when(s.comparedAt) })
      }}</span>
      <RouterLink v-if="s.pairingId" :to="`/pairings/${s.pairingId}/compare`">{{
        $t('teaching.bothSides')
      }}</RouterLink>
    </section>
    <template v-if="s.pairingId">
      <h2>{{ $t('teaching.missing', { n: need.length }, need.length) }}</h2>
      <p v-if="!need.length" class="faint">
        {{ s.comparedAt ? $t('teaching.nobodyIsMissing') : $t('teaching.neverCompared') }}
      </p>
      <MissingPeople :people="need" hand @hand="(p) => (handing = p)" />
      <template v-if="wait.length">
        <h2>{{ $t('teaching.waiting', { n: wait.length }, wait.length) }}</h2>
        <MissingPeople :people="wait" />
      </template>
    </template>
    <h2>{{ $t('shell.scores') }}</h2>
    <p v-for="l in s.scores" :key="l.id">
      <RouterLink :to="`/scores/${l.id}`">{{
        $t('teaching.scoresTo', { source: l.source, book: l.book })
      }}</RouterLink>
    </p>
    <p v-if="!s.scores.length" class="faint">{{ $t('teaching.noScores') }}</p>
    <p v-if="s.tasks">
      <RouterLink to="/tasks">{{ $t('teaching.tasks', { n: s.tasks }, s.tasks) }}</RouterLink>
    </p>
    <h2>{{ $t('teaching.elsewhere') }}</h2>
    <p v-for="e in s.elsewhere" :key="e.what">
      {{ e.what }}
      <span class="faint">{{
        e.ask.length ? $t('teaching.ask', { who: e.ask.join(', ') }) : $t('teaching.askAdministrator')
      }}</span>
    </p>
    <LinkDialog v-if="linking" :chosen="[{ ...s, id: s.own }]" @close="linking = false" @linked="fresh()" />
    <HandDialog v-if="handing" :section="s" :person="handing" @close="handing = undefined" />
  </template>
</template>

<style scoped>
.now {
  display: flex;
  flex-wrap: wrap;
  gap: 0.3rem 1.4rem;
  padding: 0.6rem 0.9rem;
}

p {
  margin: 0.3rem 0;
}
</style>
