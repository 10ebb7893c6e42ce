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
    :title="`Classes of ${service.data.value?.name ?? ''} that belong to no pairing`"
    about="With the section that each probably copies. Nothing happens to them unless you say so."
  >
    <TickField v-model="ignored" label="those that are ignored" />
  </PageHead>
  <Oops :error="ignore.error.value" />
  <Listing
    :rows="rows"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    :empty="ignored ? 'No class is ignored.' : 'Every class there is paired or ignored.'"
    :next="ignored ? undefined : { to: '/sections', text: 'See the sections' }"
  >
    <Column header="Class">
      <template #body="{ data }"
        >{{ data.name }}
        <span class="faint">{{ data.members === 1 ? '1 person' : `${data.members} people` }}</span></template
      >
    </Column>
    <Column header="Probably">
      <template #body="{ data }">
        <span v-if="!data.guesses.length" class="faint">nothing speaks for any section</span>
        <div v-for="(g, i) in data.tied ? data.guesses : data.guesses.slice(0, 1)" :key="g.section.id">
          <span v-if="i" class="faint">or </span>{{ g.section.title }}
          <span class="faint">{{ apart(g, data.guesses) }}</span>
        </div>
      </template>
    </Column>
    <Column header="What speaks for it">
      <template #body="{ data }">
        <template v-if="data.guesses.length">
          {{ data.guesses[0].shared }} of its {{ data.members }} people are in it
          <template v-if="data.guesses[0].teachers">and {{ data.guesses[0].teachers }} teach it</template>
          <span class="faint">&nbsp;{{ data.guesses[0].score }} of 100</span>
          <div v-if="data.guesses[0].paired" class="faint">
            ◐ but it is paired with {{ data.guesses[0].paired }}
          </div>
        </template>
      </template>
    </Column>
    <Column style="width: 15rem">
      <template #body="{ data }">
        <span v-if="ignored" class="faint">{{ data.ignoredBy }}, {{ when(data.ignoredAt) }} </span>
        <Button v-else size="small" variant="outlined" label="Adopt…" @click="adopting = data" />
        <Button
          size="small"
          variant="text"
          :label="ignored ? 'No longer ignore' : 'Ignore'"
          @click="ignore.mutate(data)"
        />
      </template>
    </Column>
  </Listing>
  <AdoptDialog v-if="adopting" :service="id" :found="adopting" @close="adopting = undefined" />
</template>
