<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { computed, ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import { useAddress } from '../../parts/address'
import TickField from '../../parts/form/TickField.vue'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import { when } from '../../parts/when'
import AdoptDialog from './AdoptDialog.vue'

/** Classes of a service that belong to no pairing: adopt, leave or ignore them. */
const props = defineProps<{ id: string }>()
const queries = useQueryClient()
const service = useQuery({
  queryKey: ['interfaces', () => props.id],
  queryFn: () => ok(api.GET('/api/v1/interfaces/{id}', { params: { path: { id: props.id } } })),
})
const ignored = useAddress().tick('ignored')
const list = useQuery({
  queryKey: ['unpaired', () => props.id, ignored],
  queryFn: () =>
    ok(
      api.GET('/api/v1/interfaces/{id}/unpaired', {
        params: { path: { id: props.id }, query: { ignored: ignored.value } },
      }),
    ),
  retry: false,
})
const rows = computed(() => list.data.value?.map((u) => ({ id: u.ref, ...u })))
const ignore = useMutation({
  mutationFn: (u: Schemas['UnpairedClass']) =>
    ok(
      api.POST('/api/v1/interfaces/{id}/unpaired/ignore', {
        params: { path: { id: props.id } },
        body: { refs: [u.ref], ignore: !ignored.value },
      }),
    ),
  onSettled: () => queries.invalidateQueries({ queryKey: ['unpaired'] }),
})
/** What tells a section from the others that are as likely. */
function apart(g: Schemas['Guess'], all: Schemas['Guess'][]) {
  const about = ({ section: s }: Schemas['Guess']) =>
    [s.code, s.terms.join(', '), s.school, s.teachers.join(', ')].filter(Boolean).join(' · ')
  const alike = all.filter((o) => o.section.title === g.section.title && about(o) === about(g)).length > 1
  return alike ? `${about(g)} · ${g.section.id.slice(-8)}` : about(g)
}
const adopting = ref<Schemas['UnpairedClass']>()
</script>

<template>
  <PageHead
    :title="$t('connections.classesOfThatBelongTo', { name: service.data.value?.name ?? '' })"
    :about="$t('connections.withSectionThatEachProbably')"
  >
    <TickField v-model="ignored" :label="$t('connections.thoseThatAreIgnored')" />
  </PageHead>
  <Oops :error="ignore.error.value" />
  <Listing
    :rows="rows"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    :empty="ignored ? $t('connections.noClassIsIgnored') : $t('connections.everyClassThereIsPaired')"
    :next="ignored ? undefined : { to: '/sections', text: $t('connections.seeSections') }"
  >
    <Column :header="$t('common.class')">
      <template #body="{ data }"
        >{{ data.name }}
        <span class="faint">{{
          $t('connections.members', { members: data.members }, data.members)
        }}</span></template
      >
    </Column>
    <Column :header="$t('connections.probably')">
      <template #body="{ data }">
        <span v-if="!data.guesses.length" class="faint">{{
          $t('connections.nothingSpeaksForAnySection')
        }}</span>
        <div v-for="(g, i) in data.tied ? data.guesses : data.guesses.slice(0, 1)" :key="g.section.id">
          <span v-if="i" class="faint">{{ $t('connections.or') }}{{ ' ' }}</span
          >{{ g.section.title }}
          <span class="faint">{{ apart(g, data.guesses) }}</span>
        </div>
      </template>
    </Column>
    <Column :header="$t('connections.whatSpeaksForIt')">
      <template #body="{ data }">
        <template v-if="data.guesses.length">
          {{ $t('connections.ofItsPeopleAreIn', { shared: data.guesses[0].shared, members: data.members }) }}
          <template v-if="data.guesses[0].teachers">{{
            $t('connections.andTeachIt', { teachers: data.guesses[0].teachers })
          }}</template>
          <span class="faint">{{ ' ' }}{{ $t('connections.of100', { score: data.guesses[0].score }) }}</span>
          <div v-if="data.guesses[0].paired" class="faint">
            {{ $t('connections.butItIsPairedWith', { paired: data.guesses[0].paired }) }}
          </div>
        </template>
      </template>
    </Column>
    <Column style="width: 15rem">
      <template #body="{ data }">
        <span v-if="ignored" class="faint">{{ data.ignoredBy }}, {{ when(data.ignoredAt) }} </span>
        <Button
          v-else
          size="small"
          variant="outlined"
          :label="$t('connections.adoptDialog')"
          @click="adopting = data"
        />
        <Button
          size="small"
          variant="text"
          :label="ignored ? $t('connections.noLongerIgnore') : $t('connections.ignore')"
          @click="ignore.mutate(data)"
        />
      </template>
    </Column>
  </Listing>
  <AdoptDialog v-if="adopting" :service="id" :found="adopting" @close="adopting = undefined" />
</template>
