<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { computed, ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import { refresh } from '../../api/live'
import { useAddress } from '../../parts/address'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import TextField from '../../parts/form/TextField.vue'
import TickField from '../../parts/form/TickField.vue'
import WhenField from '../../parts/form/WhenField.vue'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import { day } from '../../parts/when'
import { word } from '../../parts/words'
import { $t } from '../../texts'
import CounterpartDialog from './CounterpartDialog.vue'
import EditAssignments from './EditAssignments.vue'
import LeaveOutDialog from './LeaveOutDialog.vue'
import { changes, ready } from './scores'

/** The assignments of a score link: what each is like on both sides, and why one is not ready. */
const props = defineProps<{ link: Schemas['ScoreLink'] }>()
const emit = defineEmits<{ carry: [] }>()
type Assignment = Schemas['Assignment']
const queries = useQueryClient()
const address = useAddress()
const state = address.kept('state')
const section = address.kept('section')
const from = address.kept('from')
const until = address.kept('until')
const text = address.kept('find', '', true)
const path = computed(() => ({ path: { id: props.link.id } }))
const list = useQuery({
  queryKey: ['score-links', () => props.link.id, 'assignments'],
  queryFn: () => ok(api.GET('/api/v1/score-links/{id}/assignments', { params: path.value })),
})
const all = computed(() => list.data.value?.items ?? [])
const kind = (a: Assignment) =>
  a.outcome === 'left-out' ? (a.changedSince ? 'changed' : 'left-out') : ready(a) ? 'ready' : 'not-ready'
const rows = computed(() =>
  list.data.value
    ? all.value.filter(
        (a) =>
          (!state.value ||
            kind(a) === state.value ||
            (state.value === 'to-carry' && changes(a.counts) > 0) ||
            (state.value === 'drafts' && a.drafts + a.partly > 0)) &&
          (!section.value || a.sectionId === section.value) &&
          (!from.value || (a.source.due ?? '').slice(0, 10) >= from.value) &&
          (!until.value || (!!a.source.due && a.source.due.slice(0, 10) <= until.value)) &&
          a.title.toLowerCase().includes(text.value.trim().toLowerCase()),
      )
    : undefined,
)
const states = computed(() => {
  const n = (f: (a: Assignment) => boolean) => all.value.filter(f).length
  return [
    { value: '', label: $t('scores.allAssignments', { n: all.value.length }) },
    { value: 'ready', label: $t('scores.readyCount', { n: n((a) => kind(a) === 'ready') }) },
    { value: 'not-ready', label: $t('scores.notReadyCount', { n: n((a) => kind(a) === 'not-ready') }) },
    { value: 'to-carry', label: $t('scores.toCarryCount', { n: n((a) => changes(a.counts) > 0) }) },
    { value: 'drafts', label: $t('scores.draftsCount', { n: n((a) => a.drafts + a.partly > 0) }) },
    { value: 'left-out', label: $t('scores.leftOutCount', { n: n((a) => kind(a) === 'left-out') }) },
    { value: 'changed', label: $t('scores.changedCount', { n: n((a) => kind(a) === 'changed') }) },
  ]
})

const picked = ref(new Set<string>())
const chosen = computed(() => (rows.value ?? []).filter((a) => picked.value.has(a.id)))
function toggle(a: Assignment) {
  if (!picked.value.delete(a.id)) picked.value.add(a.id)
  picked.value = new Set(picked.value)
}
function toggleAll() {
  picked.value = new Set(chosen.value.length < (rows.value?.length ?? 0) ? rows.value!.map((a) => a.id) : [])
}
const editing = ref(false)
const leaving = ref(false)
const linking = ref<Assignment>()
const takeIn = useMutation({
  mutationFn: () =>
    ok(
      api.PATCH('/api/v1/score-links/{id}/assignments', {
        params: path.value,
        body: { ids: chosen.value.map((a) => a.id), leftOut: '' },
      }),
    ),
  onSuccess: done,
})
const look = useMutation({
  mutationFn: () => ok(api.POST('/api/v1/score-links/{id}/previews', { params: path.value })),
  onSettled: () => refresh(queries, 'scoreLink'),
})
async function done() {
  editing.value = leaving.value = false
  linking.value = undefined
  picked.value = new Set()
  await refresh(queries, 'scoreLink')
}
</script>

<template>
  <div class="bar">
    <ChoiceField v-model="state" hidden :label="$t('scores.which')" :options="states" />
    <ChoiceField
      v-if="link.sections.length > 1"
      v-model="section"
      hidden
      :label="$t('common.section')"
      :options="[
        { value: '', label: $t('scores.allSections') },
        ...link.sections.map((s) => ({ value: s.id, label: s.title })),
      ]"
    />
    <WhenField
      v-model="from"
      hidden
      of="date"
      :label="$t('scores.dueFrom')"
      :placeholder="$t('scores.dueFrom')"
    />
    <WhenField
      v-model="until"
      hidden
      of="date"
      :label="$t('scores.dueUntil')"
      :placeholder="$t('scores.dueUntil')"
    />
    <TextField
      v-model="text"
      hidden
      type="search"
      :label="$t('common.find')"
      :placeholder="$t('common.find')"
    />
    <span class="grow" />
    <Button
      size="small"
      variant="outlined"
      :label="$t('scores.readAgain')"
      :loading="look.isPending.value"
      @click="look.mutate()"
    />
    <Button size="small" :label="$t('scores.seeWhatIsCarried')" @click="emit('carry')" />
  </div>
  <div v-if="chosen.length" class="bar chosen" role="group" :aria-label="$t('scores.withChosen')">
    <b>{{ $t('scores.chosenCount', { n: chosen.length }, chosen.length) }}</b>
    <Button size="small" variant="outlined" :label="$t('common.edit')" @click="editing = true" />
    <Button size="small" variant="outlined" :label="$t('scores.leaveOutDialog')" @click="leaving = true" />
    <Button
      v-if="chosen.some((a) => a.leftOut)"
      size="small"
      variant="outlined"
      :label="$t('scores.takeIn')"
      :loading="takeIn.isPending.value"
      @click="takeIn.mutate()"
    />
  </div>
  <Oops :error="takeIn.error.value ?? look.error.value" />
  <Listing
    sorts
    :rows="rows"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    :empty="all.length ? $t('scores.noAssignmentFits') : $t('scores.noAssignments')"
    :row-class="(a) => (picked.has(a.id) ? 'chosen' : '')"
  >
    <Column style="width: 2rem">
      <template #header
        ><TickField
          :model-value="chosen.length > 0 && chosen.length === rows?.length"
          hidden
          :label="$t('scores.chooseAll')"
          @update:model-value="toggleAll"
      /></template>
      <template #body="{ data }"
        ><TickField
          :model-value="picked.has(data.id)"
          hidden
          :label="$t('common.choose', { title: `${data.title}, ${data.section}` })"
          @update:model-value="toggle(data)"
      /></template>
    </Column>
    <Column :header="$t('scores.assignment')" field="title" sortable>
      <template #body="{ data }"
        ><a v-if="data.page" :href="data.page" target="_blank" rel="noopener">{{ data.title }}</a
        ><template v-else>{{ data.title }}</template>
        <small class="faint below">{{ data.section }}</small>
        <small v-if="data.activityTitle" class="faint below">{{
          $t('scores.isActivity', { title: data.activityTitle })
        }}</small></template
      >
    </Column>
    <Column :header="$t('scores.due')" field="source.due" sortable>
      <template #body="{ data }"
        >{{ data.source.due ? day(data.source.due) : $t('scores.noDate') }}
        <small class="faint below">{{ data.period }}</small></template
      >
    </Column>
    <Column :header="$t('scores.points')" field="source.maximum" sortable>
      <template #body="{ data }"
        >{{ data.source.maximum
        }}<template v-if="data.book && data.book.maximum !== data.source.maximum">
          → {{ data.book.maximum }}</template
        >
        <small v-if="data.content !== 'scores'" class="below"
          ><b>{{ word(`content-${data.content}`) }}</b></small
        ></template
      >
    </Column>
    <Column :header="$t('scores.category')" field="category" sortable>
      <template #body="{ data }"
        >{{ data.category || '–' }}
        <small v-if="data.categoryEvidence" class="faint below">{{
          word(`evidence-${data.categoryEvidence}`)
        }}</small></template
      >
    </Column>
    <Column :header="$t('scores.atSource')">
      <template #body="{ data }"
        >{{ $t('scores.finalCount', { n: data.final })
        }}<template v-if="data.drafts"
          >, {{ $t('scores.draftCount', { n: data.drafts }, data.drafts) }}</template
        ><template v-if="data.partly">, {{ $t('scores.partlyCount', { n: data.partly }) }}</template>
        <small v-if="changes(data.counts)" class="below"
          ><b>{{ $t('scores.toCarry', { n: changes(data.counts) }) }}</b></small
        ></template
      >
    </Column>
    <Column :header="$t('scores.inBook')">
      <template #body="{ data }">
        <template v-if="data.leftOut"
          ><span class="faint">{{ $t('scores.leftOutBecause', { why: data.leftOut }) }}</span>
          <b v-if="data.changedSince" class="why below">{{ $t('scores.changedSince') }}</b></template
        >
        <template v-else-if="data.outcome === 'linked'">{{
          data.made ? $t('scores.madeByKanban') : $t('scores.linkedTo', { title: data.book.title })
        }}</template>
        <template v-else-if="data.outcome === 'made'">{{ $t('scores.isMade') }}</template>
        <ul v-else class="why">
          <li v-for="r in data.reasons" :key="r.code" :title="r.remedy">
            <RouterLink :to="`/findings/catalogue#${r.code}`">{{ r.title }}</RouterLink>
          </li>
        </ul>
      </template>
    </Column>
    <Column>
      <template #body="{ data }"
        ><Button
          size="small"
          variant="text"
          :label="data.book ? $t('scores.unlinkDialog') : $t('scores.linkDialog')"
          :aria-label="
            data.book
              ? $t('scores.unlinkOf', { title: data.title, section: data.section })
              : $t('scores.linkOf', { title: data.title, section: data.section })
          "
          @click="linking = data"
      /></template>
    </Column>
  </Listing>
  <EditAssignments v-if="editing" :link="link" :chosen="chosen" @close="editing = false" @done="done" />
  <LeaveOutDialog v-if="leaving" :link="link" :chosen="chosen" @close="leaving = false" @done="done" />
  <CounterpartDialog
    v-if="linking"
    :link="link"
    :assignment="linking"
    @close="linking = undefined"
    @done="done"
  />
</template>

<style scoped>
.bar {
  display: flex;
  gap: 0.6rem;
  align-items: center;
  flex-wrap: wrap;
  margin-bottom: 0.5rem;
}

.grow {
  flex: 1;
}

.why {
  list-style: none;
  margin: 0;
  padding: 0;
  color: var(--signal);
}
</style>
