<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { computed, ref, watch } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import { useAddress } from '../../parts/address'
import FormDialog from '../../parts/form/FormDialog.vue'
import TextField from '../../parts/form/TextField.vue'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import Pager from '../../parts/Pager.vue'
import Tabs from '../../parts/Tabs.vue'
import { word } from '../../parts/words'
import { $t } from '../../texts'
import ChooseAccount from './ChooseAccount.vue'
import Merged from './Merged.vue'
import TwoPeople from './TwoPeople.vue'

/** People whom two registers have, it seems: merged when somebody says that they are one person. */
const address = useAddress()
const shown = address.kept('show', 'sure')
const text = address.kept('text', '', true)
const queries = useQueryClient()
const certainties = ['sure', 'likely', 'unsure', 'ambiguous'] as const
const certainty = computed(() => certainties.find((c) => c === shown.value))
const cursor = ref<string[]>([])
watch([shown, text], () => (cursor.value = []))
const list = useQuery({
  queryKey: ['same-people', shown, text, cursor],
  queryFn: () =>
    ok(
      api.GET('/api/v1/same-people', {
        params: {
          query: {
            certainty: certainty.value,
            text: text.value.trim(),
            cursor: cursor.value.at(-1),
            limit: 100,
          },
        },
      }),
    ),
  placeholderData: (before) => before,
})
const counts = computed(() => list.data.value?.counts ?? {})
const tabs = computed(() => [
  ...certainties.map((c) => ({ name: c, title: word(c), count: counts.value[c] ?? 0 })),
  { name: 'merged', title: $t('people.merged') },
  { name: 'two', title: $t('people.twoPeopleTab') },
])
const about = computed(() => {
  switch (certainty.value) {
    case 'sure':
      return $t('people.sureAbout')
    case 'likely':
      return $t('people.likelyAbout')
    case 'unsure':
      return $t('people.unsureAbout')
    case 'ambiguous':
      return $t('people.ambiguousAbout')
  }
  return ''
})

const asking = ref(false)
const refused = ref<Schemas['MergeOutcome'][]>([])
const said = ref('')
const merge = useMutation({
  mutationFn: (body: Schemas['MergeSame']) => ok(api.POST('/api/v1/same-people/merge', { body })),
  onSuccess: (done) => {
    asking.value = false
    refused.value = done.refused
    said.value = $t('people.mergedSo', { n: done.merged }, done.merged)
    void queries.invalidateQueries()
  },
})
const apart = useMutation({
  mutationFn: (id: string) => ok(api.POST('/api/v1/same-people/two-people', { body: { ids: [id] } })),
  onSuccess: () => {
    said.value = $t('people.keptApart')
    void queries.invalidateQueries()
  },
})
const choosing = ref<Schemas['MergeOutcome']>()
const clashing = (o: Schemas['MergeOutcome']) =>
  !!o.clashes?.length && o.clashes.every((c) => c.kind === 'account')
</script>

<template>
  <PageHead :title="$t('shell.duplicates')" :about="$t('people.duplicatesAbout')">
    <TextField
      v-model="text"
      type="search"
      :placeholder="$t('people.nameOrAddress')"
      hidden
      :label="$t('people.findPeople')"
    />
    <Button
      v-if="shown === 'sure' && counts.sure && !text"
      size="small"
      :label="$t('people.mergeAll', { n: counts.sure }, counts.sure)"
      @click="asking = true"
    />
  </PageHead>
  <Tabs v-model="shown" :label="$t('people.whichOnes')" :tabs="tabs" />
  <p v-if="about" class="faint">{{ about }}</p>
  <Oops :error="asking ? null : (merge.error.value ?? apart.error.value)" />
  <p v-if="said" role="status">{{ said }}</p>
  <ul v-if="refused.length" class="sheet refused">
    <li v-for="o in refused" :key="o.personId + o.otherId">
      <RouterLink :to="`/people/${o.personId}`">{{ o.name }}</RouterLink>{{ ' '
      }}{{ $t('people.notMerged', { why: o.why }) }}
      <Button
        v-if="clashing(o)"
        size="small"
        variant="text"
        :label="$t('people.chooseAccount')"
        @click="choosing = o"
      />
    </li>
  </ul>
  <Merged v-if="shown === 'merged'" />
  <TwoPeople v-else-if="shown === 'two'" />
  <template v-else>
    <Listing
      :rows="list.data.value?.items"
      :loading="list.isLoading.value"
      :error="list.error.value"
      :again="list.refetch"
      :empty="$t('people.noneOfThese')"
    >
      <Column
        v-for="side in ['a', 'b'] as const"
        :key="side"
        :header="$t(side === 'a' ? 'common.person' : 'people.also')"
      >
        <template #body="{ data }">
          <RouterLink :to="`/people/${data[side].personId}`">{{ data[side].name }}</RouterLink>
          <small class="faint below">{{
            [data[side].identifier, data[side].email].filter(Boolean).join(' · ')
          }}</small>
          <small class="faint below">{{
            $t(
              'people.inRegisterSections',
              { register: data[side].register, n: data[side].enrolments },
              data[side].enrolments,
            )
          }}</small>
        </template>
      </Column>
      <Column :header="$t('connections.whatSpeaksForIt')">
        <template #body="{ data }"
          ><span v-for="s in data.signs" :key="s" class="sign" :class="{ against: s.startsWith('other') }">{{
            word(s)
          }}</span></template
        >
      </Column>
      <Column>
        <template #body="{ data }">
          <Button
            size="small"
            variant="outlined"
            :label="$t('people.onePerson')"
            :aria-label="$t('people.onePersonNamed', { name: data.a.name })"
            :loading="merge.isPending.value && merge.variables.value?.ids?.includes(data.id)"
            @click="merge.mutate({ ids: [data.id] })"
          />
          <Button
            size="small"
            variant="text"
            :label="$t('people.twoPeople')"
            :aria-label="$t('people.twoPeopleNamed', { name: data.a.name })"
            @click="apart.mutate(data.id)"
          />
        </template>
      </Column>
    </Listing>
    <Pager
      v-model="cursor"
      :next="list.data.value?.next"
      :back="$t('people.before')"
      :on="$t('people.further')"
    />
  </template>
  <FormDialog
    v-if="asking"
    :title="$t('people.mergeAll', { n: counts.sure ?? 0 }, counts.sure ?? 0)"
    :submit="$t('people.merge')"
    :sending="merge.isPending.value"
    :error="merge.error.value"
    @close="asking = false"
    @submit="merge.mutate({ sure: true, expected: counts.sure })"
  >
    <p>{{ $t('people.mergeAllAbout') }}</p>
  </FormDialog>
  <ChooseAccount
    v-if="choosing"
    :of="choosing"
    @close="choosing = undefined"
    @merged="
      () => {
        refused = refused.filter((o) => o !== choosing)
        choosing = undefined
        said = $t('people.mergedSo', { n: 1 }, 1)
      }
    "
  />
</template>

<style scoped>
.sign {
  display: inline-block;
  margin-inline-end: 0.6rem;
  white-space: nowrap;
}

.against {
  color: var(--urgent);
}

.refused {
  margin: 0.5rem 0;
  padding: 0.7rem 0.9rem 0.7rem 2rem;
}
</style>
