<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import { when } from '../../parts/when'
import UnlinkDialog from './UnlinkDialog.vue'

/** Linked sets, and sections that could be linked. */
const queries = useQueryClient()
const sets = useQuery({ queryKey: ['sets'], queryFn: () => ok(api.GET('/api/v1/linked-sets')) })
const sameTeacher = ref(true)
const proposals = useQuery({
  queryKey: ['sets', 'proposals', sameTeacher],
  queryFn: () =>
    ok(api.GET('/api/v1/linked-sets/proposals', { params: { query: { sameTeacher: sameTeacher.value } } })),
})
const skipped = ref<string[]>([])
const wanted = computed(() => (proposals.data.value ?? []).filter((p) => !skipped.value.includes(key(p))))
const key = (p: Schemas['SetProposal']) => p.sections.map((s) => s.id).join()
const link = useMutation({
  mutationFn: () =>
    ok(
      api.POST('/api/v1/linked-sets', {
        body: wanted.value.map((p) => ({
          leadId: p.sections[0]!.id,
          sections: p.sections.slice(1).map((s) => s.id),
          name: p.name,
        })),
      }),
    ),
  onSuccess: () =>
    Promise.all(['sets', 'sections', 'board'].map((k) => queries.invalidateQueries({ queryKey: [k] }))),
})
const unlinking = ref<Schemas['LinkedSet']>()

function skip(p: Schemas['SetProposal']) {
  const k = key(p)
  skipped.value = skipped.value.includes(k) ? skipped.value.filter((x) => x !== k) : [...skipped.value, k]
}
</script>

<template>
  <PageHead title="Linked sets" about="sections of one course and term that are handled as one">
    <RouterLink to="/sections">All sections</RouterLink>
  </PageHead>
  <Oops :error="sets.error.value ?? proposals.error.value ?? link.error.value" />
  <p v-for="x in link.data.value?.problems" :key="x" class="bad">▲ {{ x }}</p>
  <p v-if="sets.data.value && !sets.data.value.length" class="sheet empty faint">
    Nothing is linked yet. Take a proposal below, or choose sections and link them.
  </p>
  <div class="sets">
    <section v-for="s in sets.data.value" :key="s.id" class="sheet set">
      <h2>{{ s.name }}</h2>
      <ul>
        <li v-for="x in s.sections" :key="x.id">
          {{ x.title }} <span class="faint">{{ x.code }} · {{ x.learners }} learners</span>
          <span v-if="x.id === s.leadId" class="faint"> · lead</span>
          <span v-if="x.gone" class="bad"> ▲ no longer in the register</span>
        </li>
      </ul>
      <p class="faint small">
        Linked by {{ s.madeBy }}, {{ when(s.createdAt) }}.
        <template v-if="s.reason">Because: {{ s.reason }}.</template>
        <template v-for="t in s.targets" :key="t.pairingId">
          One class: <RouterLink :to="`/pairings/${t.pairingId}`">{{ t.target }}</RouterLink>.
        </template>
      </p>
      <div class="row">
        <a :href="`/api/v1/linked-sets/${s.id}/copy`" download>Safety copy</a>
        <span class="faint small">{{ s.copy?.people }} people, {{ s.copy?.results }} results</span>
        <Button size="small" variant="outlined" label="Unlink…" @click="unlinking = s" />
      </div>
    </section>
  </div>
  <div class="head">
    <h2>Could be linked</h2>
    <label><input v-model="sameTeacher" type="checkbox" /> only with the same teacher</label>
    <Button
      v-if="wanted.length"
      size="small"
      :label="`Link ${wanted.length === 1 ? 'this one' : `these ${wanted.length}`}`"
      :loading="link.isPending.value"
      @click="link.mutate()"
    />
  </div>
  <p v-if="proposals.data.value && !proposals.data.value.length" class="faint">
    No unlinked sections of one course and term{{ sameTeacher ? ' share a teacher' : ' are left' }}.
  </p>
  <ul class="proposals">
    <li v-for="p in proposals.data.value" :key="key(p)">
      <label>
        <input type="checkbox" :checked="!skipped.includes(key(p))" @change="skip(p)" />
        <b>{{ p.name }}</b> {{ p.sections.map((s) => s.title).join(', ') }}
        <span class="faint">{{ p.sections[0]!.terms.join(', ') }}</span>
      </label>
    </li>
  </ul>
  <UnlinkDialog v-if="unlinking" :set="unlinking" @close="unlinking = undefined" />
</template>

<style scoped>
.sets {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(22rem, 1fr));
  gap: 1rem;
}

.set {
  padding: 0.7rem 1rem;
}

h2 {
  margin: 0;
}

.set ul,
.proposals {
  list-style: none;
  padding: 0;
  margin: 0.4rem 0;
}

.set li,
.proposals li {
  padding: 0.2rem 0;
  border-bottom: 1px solid var(--hair);
}

.row,
.head {
  display: flex;
  gap: 1rem;
  align-items: center;
}

.row > :last-child {
  margin-left: auto;
}

.head {
  margin-top: 1.6rem;
}

.small {
  font-size: 12.5px;
}

.empty {
  padding: 1.2rem;
}

.bad {
  color: var(--signal);
}
</style>
