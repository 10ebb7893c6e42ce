<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import ToggleSwitch from 'primevue/toggleswitch'
import { computed, ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import { useAddress } from '../../parts/address'
import TickField from '../../parts/form/TickField.vue'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import { when } from '../../parts/when'
import OfferForm from './OfferForm.vue'
import Purchases from './Purchases.vue'

/** What people buy, whom it gives access, and where access and enrolment disagree. */
const props = defineProps<{ id?: string }>()
const queries = useQueryClient()
const offers = useQuery({ queryKey: ['offers'], queryFn: () => ok(api.GET('/api/v1/offers')) })
const unmapped = useQuery({ queryKey: ['unmapped'], queryFn: () => ok(api.GET('/api/v1/unmapped')) })
const mismatches = useAddress().tick('mismatches')
const sides = useQuery({
  queryKey: ['sides', () => props.id, mismatches],
  queryFn: () =>
    ok(api.GET('/api/v1/sides', { params: { query: { offer: props.id, mismatches: mismatches.value } } })),
})
const form = ref<{ edit?: Schemas['Offer']; offer?: string; interfaceId?: string } | undefined>()
const remove = useMutation({
  mutationFn: (o: Schemas['Offer']) =>
    ok(api.DELETE('/api/v1/offers/{id}', { params: { path: { id: o.id } } })),
  onSuccess: () => queries.invalidateQueries(),
})
const flip = useMutation({
  mutationFn: (o: Schemas['Offer']) =>
    ok(
      api.POST('/api/v1/offers/{id}/switch', {
        params: { path: { id: o.id } },
        body: { on: !o.on },
      }),
    ),
  onSettled: () => queries.invalidateQueries(),
})
const one = computed(() => offers.data.value?.items.find((o) => o.id === props.id))
const verdicts: Record<string, string> = {
  agrees: '● agree',
  'on-its-way': '○ on its way',
  marked: '□ ended, kept',
  'access-without-enrolment': '▲ access, not enrolled',
  'enrolment-without-access': '▲ enrolled, no access',
}
const leads = (o: Schemas['Offer']) =>
  o.courseId
    ? `one section of a course, ${o.termRule} term`
    : `${o.sectionIds?.length ?? 0} ${o.sectionIds?.length === 1 ? 'section' : 'sections'}`
</script>

<template>
  <PageHead
    title="Access"
    about="What people buy or belong to, the sections it opens to them, and whether they are really in"
  >
    <Button size="small" label="Make an offer…" @click="form = {}" />
  </PageHead>
  <Oops :error="remove.error.value ?? flip.error.value" />
  <p v-for="u in unmapped.data.value" :key="u.offer" class="sheet unmapped">
    <b>▲ {{ u.interface }} sold “{{ u.offer }}”</b> to {{ u.buyers }}
    {{ u.buyers === 1 ? 'person' : 'people' }}, and no offer says where it leads.
    <Button
      size="small"
      variant="text"
      label="Make the offer…"
      @click="form = { offer: u.offer, interfaceId: u.interfaceId }"
    />
  </p>
  <Listing
    v-if="unmapped.isFetched.value"
    sorts
    :rows="offers.data.value?.items"
    :loading="offers.isLoading.value"
    :error="offers.error.value"
    :again="offers.refetch"
    empty="No offer yet. Connect the service that sells, then say to which sections a purchase gives access."
    :next="{ to: '/connections/new?kind=cloudevents', text: 'Connect the service that sells' }"
  >
    <Column header="On">
      <template #body="{ data }">
        <ToggleSwitch
          :model-value="data.on"
          :aria-label="`${data.name} is on`"
          @update:model-value="flip.mutate(data)"
        />
      </template>
    </Column>
    <Column header="Offer" field="name" sortable>
      <template #body="{ data }"
        ><RouterLink :to="`/access/${data.id}`">{{ data.name }}</RouterLink></template
      >
    </Column>
    <Column field="offer" header="Sold as" sortable />
    <Column header="Leads to"
      ><template #body="{ data }">{{ leads(data) }}</template></Column
    >
    <Column header="Grace"
      ><template #body="{ data }">{{ data.graceDays ? `${data.graceDays} days` : 'none' }}</template></Column
    >
    <Column header="At its end"
      ><template #body="{ data }">{{
        data.atEnd === 'mark' ? 'people stay, marked' : 'people are taken out'
      }}</template></Column
    >
    <Column field="active" header="Have access" sortable />
    <Column field="ended" header="Ended" sortable />
    <Column header="Mismatches" field="mismatches" sortable>
      <template #body="{ data }"
        ><span :class="{ urgent: data.mismatches }">{{ data.mismatches }}</span></template
      >
    </Column>
    <Column>
      <template #body="{ data }">
        <Button size="small" variant="text" label="Edit…" @click="form = { edit: data }" />
        <Button size="small" variant="text" label="Remove" @click="remove.mutate(data)" />
      </template>
    </Column>
  </Listing>
  <div v-if="offers.isFetched.value && unmapped.isFetched.value" class="top">
    <h2>
      Access and enrolment, side by side<template v-if="one"> · {{ one.name }}</template>
    </h2>
    <RouterLink v-if="id" to="/access">all offers</RouterLink>
    <TickField v-model="mismatches" label="only where they do not agree" />
  </div>
  <Listing
    v-if="offers.isFetched.value && unmapped.isFetched.value"
    :rows="sides.data.value"
    :loading="sides.isLoading.value"
    :error="sides.error.value"
    :again="sides.refetch"
    :empty="mismatches ? 'Access and enrolment agree everywhere.' : 'Nobody has or had access.'"
    :tall="(sides.data.value?.length ?? 0) > 30 ? 38 : undefined"
  >
    <Column header="Person">
      <template #body="{ data }">
        <RouterLink v-if="data?.personId" :to="`/people/${data.personId}`">{{ data.person }}</RouterLink>
        <template v-else>{{ data?.person }}</template>
      </template>
    </Column>
    <Column field="section" header="Section" />
    <Column field="offer" header="Offer" />
    <Column header="Access">
      <template #body="{ data }"
        >{{ data?.access === 'grace' ? 'in grace' : data?.access
        }}<span v-if="data?.endsOn" class="faint"> until {{ when(data.endsOn) }}</span></template
      >
    </Column>
    <Column header="Enrolled">
      <template #body="{ data }">{{ data?.enrolled ? 'yes' : 'no' }}</template>
    </Column>
    <Column header="Agree">
      <template #body="{ data }"
        ><span v-if="data" :class="{ urgent: data.verdict.includes('without') }"
          >{{ verdicts[data.verdict] }}
        </span>
        <RouterLink v-if="data?.state === 'waiting'" to="/deliveries?state=waiting"
          >the delivery waits</RouterLink
        ></template
      >
    </Column>
  </Listing>
  <Purchases v-if="offers.isFetched.value && sides.isFetched.value" :offer="one" />
  <OfferForm
    v-if="form"
    :edit="form.edit"
    :offer="form.offer"
    :interface-id="form.interfaceId"
    @close="form = undefined"
  />
</template>

<style scoped>
.urgent {
  color: var(--signal);
  font-weight: 600;
}

.unmapped {
  padding: 0.5rem 1rem;
  margin: 0 0 0.6rem;
  border-inline-start: 3px solid var(--signal);
}

.top {
  display: flex;
  gap: 1.2rem;
  align-items: baseline;
}

.top h2 {
  flex: 1;
}
</style>
