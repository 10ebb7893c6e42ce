<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { ref } from 'vue'

import { api, every, ok, type Schemas } from '../../api/client'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import { $t } from '../../texts'
import ListDialog from './ListDialog.vue'
import PairDialog from './PairDialog.vue'

/** Lists of people that can be paired like a section. */
const queries = useQueryClient()
const list = useQuery({
  queryKey: ['sections', 'lists'],
  queryFn: () =>
    every((cursor) => ok(api.GET('/api/v1/people-lists', { params: { query: { cursor, limit: 1000 } } }))),
})
const form = ref<{ edit?: Schemas['PeopleList'] }>()
const pairing = ref<Schemas['Section']>()
const pair = useMutation({
  mutationFn: (l: Schemas['PeopleList']) =>
    ok(api.GET('/api/v1/sections', { params: { query: { called: l.id, hidden: '*' } } })),
  onSuccess: (page) => (pairing.value = page.items[0]),
})
const remove = useMutation({
  mutationFn: (l: Schemas['PeopleList']) =>
    ok(api.DELETE('/api/v1/people-lists/{id}', { params: { path: { id: l.id } } })),
  onSuccess: () => queries.invalidateQueries({ queryKey: ['sections'] }),
})
const words = {
  course: $t('sections.everybodyOfCourse'),
  organisation: $t('sections.everybodyOfOrganisation'),
  named: $t('sections.namedPeople'),
}
</script>

<template>
  <PageHead :title="$t('sections.peopleLists')" :about="$t('sections.everybodyOfCourseOrOrganisation')">
    <RouterLink to="/sections">{{ $t('sections.allSections') }}</RouterLink>
    <Button size="small" :label="$t('sections.newList')" @click="form = {}" />
  </PageHead>
  <Oops :error="remove.error.value ?? pair.error.value" />
  <Listing
    :rows="list.data.value"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    :empty="$t('sections.thereIsNoListYet')"
  >
    <Column :header="$t('sections.list')">
      <template #body="{ data }"
        >{{ data.name }} <span class="faint">{{ words[data.kind as keyof typeof words] }}</span>
        <div v-if="data.gone" class="bad">{{ $t('sections.noLongerInRegister') }}</div></template
      >
    </Column>
    <Column field="learners" :header="$t('sections.learnersColumn')" />
    <Column :header="$t('sections.teachers')"
      ><template #body="{ data }">{{ data.teachers.join(', ') }}</template></Column
    >
    <Column :header="$t('sections.classes')"
      ><template #body="{ data }">{{ data.targets.join(', ') }}</template></Column
    >
    <Column style="width: 17rem">
      <template #body="{ data }">
        <Button size="small" variant="outlined" :label="$t('sections.pair')" @click="pair.mutate(data)" />
        <Button
          size="small"
          variant="text"
          :label="$t('sections.changeDialog')"
          @click="form = { edit: data }"
        />
        <Button
          v-if="!data.targets.length"
          size="small"
          variant="text"
          :label="$t('common.remove')"
          @click="remove.mutate(data)"
        />
      </template>
    </Column>
  </Listing>
  <ListDialog v-if="form" :edit="form.edit" @close="form = undefined" />
  <PairDialog v-if="pairing" :section="pairing" @close="pairing = undefined" />
</template>

<style scoped>
.bad {
  color: var(--signal);
}
</style>
