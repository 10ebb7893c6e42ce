<script setup lang="ts">
import { useMutation, useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Checkbox from 'primevue/checkbox'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, ok, type Schemas } from '../../api/client'
import { useAddress } from '../../parts/address'
import TickField from '../../parts/form/TickField.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import { when } from '../../parts/when'
import LeftGroups from './LeftGroups.vue'
import PutBackDialog from './PutBackDialog.vue'
import SetDialog from './SetDialog.vue'
import UnlinkDialog from './UnlinkDialog.vue'

/** Linked sets, and sections that could be linked. */
const router = useRouter()
const address = useAddress()
const unlinked = address.tick('unlinked')
const sets = useQuery({
  queryKey: ['sets', 'list', unlinked],
  queryFn: () => ok(api.GET('/api/v1/linked-sets', { params: { query: { unlinked: unlinked.value } } })),
})
const sameTeacher = address.tick('teacher', true)
const everything = address.tick('hidden')
const proposals = useQuery({
  queryKey: ['sets', 'proposals', sameTeacher, everything],
  queryFn: () =>
    ok(
      api.GET('/api/v1/linked-sets/proposals', {
        params: { query: { sameTeacher: sameTeacher.value, hidden: everything.value ? '*' : '' } },
      }),
    ),
})
const skipped = ref<string[]>([])
const items = computed(() => proposals.data.value?.items ?? [])
const wanted = computed(() => items.value.filter((p) => !skipped.value.includes(key(p))))
const key = (p: Schemas['SetProposal']) => p.sections.map((s) => s.id).join()
const look = useMutation({
  mutationFn: () =>
    ok(
      api.POST('/api/v1/batches', {
        body: {
          act: 'link',
          sets: wanted.value.map((p) => ({
            leadId: p.sections[0]!.id,
            sections: p.sections.slice(1).map((s) => s.id),
            name: p.name,
          })),
        },
      }),
    ),
  onSuccess: (b) => router.push(`/batches/${b.id}`),
})
/** What all sections of a proposal have, or what each has. */
const named = (list: string[]) => [...new Set(list)].join(', ')
const changing = ref<Schemas['LinkedSet']>()
const copy = ref<Schemas['CopyRef']>()
const unlinking = ref<Schemas['LinkedSet']>()

function skip(p: Schemas['SetProposal']) {
  const k = key(p)
  skipped.value = skipped.value.includes(k) ? skipped.value.filter((x) => x !== k) : [...skipped.value, k]
}
</script>

<template>
  <PageHead title="Linked sets" about="sections of one course and term that are handled as one">
    <TickField v-model="unlinked" label="those that were unlinked" />
    <RouterLink to="/sections">All sections</RouterLink>
  </PageHead>
  <Oops :error="sets.error.value ?? proposals.error.value ?? look.error.value" />
  <p v-if="sets.data.value && !sets.data.value.length" class="sheet empty faint">
    <template v-if="unlinked">Nothing was unlinked.</template>
    <template v-else
      >Nothing is linked yet. Take a proposal below, or choose sections and link them.</template
    >
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
        <template v-if="s.unlinkedAt">Unlinked {{ when(s.unlinkedAt) }}.</template>
        <template v-if="s.reason">Because: {{ s.reason }}.</template>
        <template v-for="t in s.targets" :key="t.pairingId">
          One class: <RouterLink :to="`/pairings/${t.pairingId}`">{{ t.target }}</RouterLink>.
        </template>
      </p>
      <p v-for="(c, i) in s.copies" :key="c.id" class="faint small copy">
        <span
          ><a :href="`/api/v1/safety-copies/${c.id}`" download>{{ i ? 'Earlier copy' : 'Safety copy' }}</a> of
          {{ when(c.createdAt) }}: {{ c.people }} people, {{ c.results }} results</span
        >
        <Button size="small" variant="text" label="Put back…" @click="copy = c" />
      </p>
      <div v-if="!s.unlinkedAt" class="row">
        <Button size="small" variant="outlined" label="Change…" @click="changing = s" />
        <Button size="small" variant="outlined" label="Unlink…" @click="unlinking = s" />
      </div>
    </section>
  </div>
  <div class="head">
    <h2>Could be linked</h2>
    <TickField v-model="sameTeacher" label="only with the same teacher" />
    <TickField
      v-if="everything || proposals.data.value?.hidden"
      v-model="everything"
      :label="`those that lists hide ${proposals.data.value?.hidden ? `(${proposals.data.value.hidden})` : ''}`"
    />
    <Button
      v-if="wanted.length"
      size="small"
      :label="`Show what linking ${wanted.length === 1 ? 'this one' : `these ${wanted.length}`} means`"
      :loading="look.isPending.value"
      @click="look.mutate()"
    />
  </div>
  <p v-if="proposals.data.value && !items.length" class="faint">
    No unlinked sections of one course and term{{ sameTeacher ? ' share a teacher' : ' are left' }}.
  </p>
  <ul class="proposals">
    <li v-for="p in items" :key="key(p)">
      <label>
        <Checkbox
          :model-value="!skipped.includes(key(p))"
          binary
          :aria-label="p.name"
          @update:model-value="skip(p)"
        />
        <b>{{ p.name }}</b> {{ p.sections.map((s) => s.title).join(', ') }}
        <span class="faint"
          >{{ p.sections[0]!.terms.join(', ') }} · {{ named(p.sections.map((s) => s.school ?? '')) }} ·
          {{ named(p.sections.flatMap((s) => s.teachers)) }}</span
        >
        <small v-if="p.sharedTeachers.length" class="shared"
          >Nobody teaches all of them:
          {{
            p.sharedTeachers.map((t) => `${t.teacher} teaches ${t.sections.join(' and ')}`).join('; ')
          }}.</small
        >
      </label>
    </li>
  </ul>
  <LeftGroups />
  <SetDialog v-if="changing" :set="changing" @close="changing = undefined" />
  <PutBackDialog v-if="copy" :copy="copy" @close="copy = undefined" />
  <UnlinkDialog v-if="unlinking" :set="unlinking" @close="unlinking = undefined" />
</template>

<style scoped>
.sets {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(30rem, 1fr));
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

.row {
  justify-content: flex-end;
}

.copy {
  display: flex;
  justify-content: space-between;
  align-items: center;
  margin: 0;
}

.head {
  margin-top: 1.6rem;
}

.proposals label {
  display: block;
}

.proposals label :deep(.p-checkbox) {
  margin-inline-end: 0.4rem;
  vertical-align: middle;
}

.shared {
  display: block;
  padding-inline-start: 1.6rem;
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
