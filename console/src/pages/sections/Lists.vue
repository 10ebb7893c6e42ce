<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { ref } from 'vue'

import { api, every, ok, type Schemas } from '../../api/client'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
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
  course: 'everybody of a course',
  organisation: 'everybody of an organisation',
  named: 'named people',
}
</script>

<template>
  <PageHead
    title="People lists"
    about="Everybody of a course or an organisation, or people you name: paired like a section, with the same outcomes."
  >
    <RouterLink to="/sections">All sections</RouterLink>
    <Button size="small" label="New list…" @click="form = {}" />
  </PageHead>
  <Oops :error="remove.error.value ?? pair.error.value" />
  <Listing
    :rows="list.data.value"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    empty="There is no list yet. Make one of a course, an organisation, or of people you name."
  >
    <Column header="List">
      <template #body="{ data }"
        >{{ data.name }} <span class="faint">{{ words[data.kind as keyof typeof words] }}</span>
        <div v-if="data.gone" class="bad">▲ no longer in the register</div></template
      >
    </Column>
    <Column field="learners" header="Learners" />
    <Column header="Teachers"
      ><template #body="{ data }">{{ data.teachers.join(', ') }}</template></Column
    >
    <Column header="Classes"
      ><template #body="{ data }">{{ data.targets.join(', ') }}</template></Column
    >
    <Column style="width: 17rem">
      <template #body="{ data }">
        <Button size="small" variant="outlined" label="Pair…" @click="pair.mutate(data)" />
        <Button size="small" variant="text" label="Change…" @click="form = { edit: data }" />
        <Button
          v-if="!data.targets.length"
          size="small"
          variant="text"
          label="Remove"
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
