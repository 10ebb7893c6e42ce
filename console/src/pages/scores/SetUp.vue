<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { computed, ref, watch } from 'vue'

import { api, ifMatch, ok, type Schemas } from '../../api/client'
import { refresh } from '../../api/live'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import { provideForm } from '../../parts/form/form'
import TickField from '../../parts/form/TickField.vue'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import { day, when } from '../../parts/when'
import { word } from '../../parts/words'
import { $t } from '../../texts'
import Mismatches from './Mismatches.vue'
import PointDialog from './PointDialog.vue'
import PolicyFields from './PolicyFields.vue'

/** What is set once for a score link, for all its sections. */
const props = defineProps<{ link: Schemas['ScoreLink'] }>()
const queries = useQueryClient()
const copy = () => JSON.parse(JSON.stringify(props.link.policy)) as Schemas['ScorePolicy']
const policy = ref(copy())
const changed = computed(() => JSON.stringify(policy.value) !== JSON.stringify(props.link.policy))
const version = ref(props.link.version)
watch(
  () => props.link.version,
  (now) => {
    if (!changed.value) {
      policy.value = copy()
      version.value = now
    }
  },
)
const path = computed(() => ({ path: { id: props.link.id } }))
const pointing = ref(false)
const categories = useQuery({
  queryKey: ['score-links', () => props.link.id, 'categories'],
  queryFn: () => ok(api.GET('/api/v1/score-links/{id}/categories', { params: path.value })),
})
const periods = useQuery({
  queryKey: ['score-links', () => props.link.id, 'periods'],
  queryFn: () => ok(api.GET('/api/v1/score-links/{id}/periods', { params: path.value })),
})
const save = useMutation({
  mutationFn: (tag?: string) =>
    ok(
      api.PATCH('/api/v1/score-links/{id}', {
        params: { ...path.value, header: ifMatch(tag || version.value) },
        body: { policy: policy.value },
      }),
    ),
  onSuccess: async (l) => {
    policy.value = JSON.parse(JSON.stringify(l.policy)) as Schemas['ScorePolicy']
    version.value = l.version
    await refresh(queries, 'scoreLink')
  },
})
provideForm(
  () => save.error.value,
  () => save.isPending.value,
)
const close = useMutation({
  mutationFn: (x: { id: string; final: boolean }) =>
    ok(
      api.PUT('/api/v1/score-links/{id}/periods/{period}', {
        params: { path: { id: props.link.id, period: x.id } },
        body: { final: x.final },
      }),
    ),
  onSettled: () => refresh(queries, 'scoreLink'),
})
const given = useQuery({
  queryKey: ['score-links', () => props.link.id, 'owners'],
  queryFn: () => ok(api.GET('/api/v1/score-links/{id}/owners', { params: { path: { id: props.link.id } } })),
})
const ungive = useMutation({
  mutationFn: (g: Schemas['GivenScores']) =>
    ok(
      api.POST('/api/v1/score-links/{id}/owners', {
        params: { path: { id: props.link.id } },
        body: { student: g.student, sourceItem: g.sourceItem },
      }),
    ),
  onSettled: () => refresh(queries, 'scoreLink'),
})
function choose(source: string, book?: string) {
  const all = { ...policy.value.categories }
  if (book) all[source] = book
  else delete all[source]
  policy.value.categories = all
}
const weight = (c?: Schemas['GradebookCategory']) => (c?.weight === undefined ? '–' : `${c.weight} %`)
</script>

<template>
  <form class="two" @submit.prevent="save.mutate('')">
    <PolicyFields v-model="policy" class="whole" />
    <div class="whole">
      <h2>{{ $t('scores.categories') }}</h2>
      <TickField v-model="policy.makesCategories" :label="$t('scores.makeCategories')" />
      <Listing
        :rows="categories.data.value?.matches.map((m) => ({ id: m.source.id, ...m }))"
        :loading="categories.isLoading.value"
        :error="categories.error.value"
        :again="categories.refetch"
        :empty="$t('scores.noCategories')"
      >
        <Column :header="$t('scores.atSource')">
          <template #body="{ data }"
            >{{ data.source.title }} <span class="faint">{{ weight(data.source) }}</span></template
          >
        </Column>
        <Column :header="$t('scores.inBook')">
          <template #body="{ data }"
            ><ChoiceField
              hidden
              clear
              :label="$t('scores.categoryFor', { title: data.source.title })"
              :model-value="policy.categories?.[data.source.id] ?? data.book?.id"
              :placeholder="data.makes ? $t('scores.isMade') : undefined"
              :options="
                (categories.data.value?.book ?? []).map((c) => ({
                  value: c.id,
                  label: c.title,
                  apart: weight(c),
                }))
              "
              @update:model-value="(v) => choose(data.source.id, v)"
          /></template>
        </Column>
        <Column :header="$t('common.why')">
          <template #body="{ data }"
            ><template v-if="data.evidence">{{ word(`evidence-${data.evidence}`) }}</template>
            <b v-if="data.several" class="urgent below">{{ $t('scores.severalCategories') }}</b>
            <b v-if="data.weights" class="urgent below">{{
              $t('scores.weightsDiffer', { source: weight(data.source), book: weight(data.book) })
            }}</b></template
          >
        </Column>
      </Listing>
    </div>
    <Mismatches class="whole" :link="link" />
    <div class="whole">
      <Oops :error="save.error.value" :over="(tag) => save.mutate(tag)" />
      <div class="actions">
        <Button
          type="submit"
          :label="$t('common.save')"
          :disabled="!changed"
          :loading="save.isPending.value"
        />
        <Button type="button" variant="outlined" :label="$t('scores.pointDialog')" @click="pointing = true" />
        <Button
          v-if="changed"
          type="button"
          variant="text"
          :label="$t('scores.asItWas')"
          @click="policy = copy()"
        />
      </div>
    </div>
  </form>
  <PointDialog v-if="pointing" :link="link" @close="pointing = false" />
  <template v-if="given.data.value?.items.length">
    <h2>{{ $t('scores.givenByHand') }}</h2>
    <Oops :error="ungive.error.value" />
    <Listing
      :rows="given.data.value.items.map((g) => ({ id: `${g.sourceItem} ${g.student}`, ...g }))"
      :loading="false"
      :error="given.error.value"
      empty=""
    >
      <Column field="student" :header="$t('scores.atSource')" />
      <Column :header="$t('common.person')">
        <template #body="{ data }"
          ><RouterLink :to="`/people/${data.personId}`">{{ data.person }}</RouterLink>
          <small class="faint below">{{
            [data.assignment, data.section].filter(Boolean).join(' · ')
          }}</small></template
        >
      </Column>
      <Column :header="$t('common.at')">
        <template #body="{ data }"
          ><span class="faint">{{ data.givenBy }}, {{ when(data.givenAt) }}</span></template
        >
      </Column>
      <Column>
        <template #body="{ data }"
          ><Button
            size="small"
            variant="outlined"
            :label="$t('scores.revertGiven')"
            :aria-label="$t('scores.revertGivenOf', { student: data.student, person: data.person })"
            :loading="ungive.isPending.value"
            @click="ungive.mutate(data)"
        /></template>
      </Column>
    </Listing>
  </template>
  <h2>{{ $t('scores.periods') }}</h2>
  <Oops :error="close.error.value" />
  <Listing
    :rows="periods.data.value?.items"
    :loading="periods.isLoading.value"
    :error="periods.error.value"
    :again="periods.refetch"
    :empty="$t('scores.noPeriods')"
  >
    <Column :header="$t('scores.period')" field="title" />
    <Column :header="$t('scores.from')">
      <template #body="{ data }">{{ day(data.begins) }}</template>
    </Column>
    <Column :header="$t('scores.to')">
      <template #body="{ data }">{{ day(data.ends) }}</template>
    </Column>
    <Column>
      <template #body="{ data }"
        ><span v-if="data.final" class="faint">{{
          $t('scores.finalBy', { who: data.finalBy })
        }}</span></template
      >
    </Column>
    <Column>
      <template #body="{ data }"
        ><Button
          size="small"
          variant="outlined"
          :label="data.final ? $t('scores.openAgain') : $t('scores.declareFinal')"
          :aria-label="
            data.final
              ? $t('scores.openAgainOf', { title: data.title })
              : $t('scores.declareFinalOf', { title: data.title })
          "
          :loading="close.isPending.value"
          @click="close.mutate({ id: data.id, final: !data.final })"
      /></template>
    </Column>
  </Listing>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 0 2rem;
}

.whole {
  grid-column: 1 / -1;
}

.urgent {
  color: var(--signal);
}

.actions {
  margin-top: 0.8rem;
}

@media (max-width: 760px) {
  .two {
    grid-template-columns: 1fr;
  }
}
</style>
