<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import ToggleSwitch from 'primevue/toggleswitch'
import { computed, defineAsyncComponent, ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import { useAddress } from '../../parts/address'
import TickField from '../../parts/form/TickField.vue'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import { when } from '../../parts/when'
import { $t } from '../../texts'
import OfferForm from './OfferForm.vue'
import Purchases from './Purchases.vue'

// Only those who begin need them.
const AccessSteps = defineAsyncComponent(() => import('../start/AccessSteps.vue'))

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
  agrees: $t('access.agreeSign'),
  'on-its-way': $t('access.onItsWay'),
  marked: $t('access.endedKept'),
  'access-without-enrolment': $t('access.accessNotEnrolled'),
  'enrolment-without-access': $t('access.enrolledNoAccess'),
}
const leads = (o: Schemas['Offer']) =>
  o.courseId
    ? $t('access.oneSectionOfCourseTerm', { termRule: o.termRule })
    : $t('access.sections', { n: o.sectionIds?.length ?? 0 }, o.sectionIds?.length ?? 0)
</script>

<template>
  <PageHead :title="$t('access.access')" :about="$t('access.whatPeopleBuyOrBelong')">
    <Button size="small" :label="$t('access.makeOffer')" @click="form = {}" />
  </PageHead>
  <Oops :error="remove.error.value ?? flip.error.value" />
  <p v-for="u in unmapped.data.value" :key="u.offer" class="sheet unmapped">
    <i18n-t keypath="access.toAndNoOfferSays" :plural="u.buyers" scope="global"
      ><template #what
        ><b>{{ $t('access.sold', { interface: u.interface, offer: u.offer }) }}</b></template
      ><template #buyers>{{ u.buyers }}</template></i18n-t
    >{{ ' '
    }}<Button
      size="small"
      variant="text"
      :label="$t('access.makeOfferDialog')"
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
    :empty="$t('access.noOfferYetConnectService')"
    :next="{ to: '/connections/new?kind=cloudevents', text: $t('access.connectServiceThatSells') }"
  >
    <Column :header="$t('access.on')">
      <template #body="{ data }">
        <ToggleSwitch
          :model-value="data.on"
          :aria-label="$t('access.isOn', { name: data.name })"
          @update:model-value="flip.mutate(data)"
        />
      </template>
    </Column>
    <Column :header="$t('access.offer')" field="name" sortable>
      <template #body="{ data }"
        ><RouterLink :to="`/access/${data.id}`">{{ data.name }}</RouterLink></template
      >
    </Column>
    <Column field="offer" :header="$t('access.soldAs')" sortable />
    <Column :header="$t('access.leadsTo')"
      ><template #body="{ data }">{{ leads(data) }}</template></Column
    >
    <Column :header="$t('access.grace')"
      ><template #body="{ data }">{{
        data.graceDays ? $t('access.days', { graceDays: data.graceDays }) : $t('access.none')
      }}</template></Column
    >
    <Column :header="$t('access.atItsEnd')"
      ><template #body="{ data }">{{
        data.atEnd === 'mark' ? $t('access.peopleStayMarked') : $t('access.peopleAreTakenOut')
      }}</template></Column
    >
    <Column field="active" :header="$t('access.haveAccess')" sortable />
    <Column field="ended" :header="$t('access.ended')" sortable />
    <Column :header="$t('access.mismatches')" field="mismatches" sortable>
      <template #body="{ data }"
        ><span :class="{ urgent: data.mismatches }">{{ data.mismatches }}</span></template
      >
    </Column>
    <Column>
      <template #body="{ data }">
        <Button size="small" variant="text" :label="$t('common.edit')" @click="form = { edit: data }" />
        <Button size="small" variant="text" :label="$t('common.remove')" @click="remove.mutate(data)" />
      </template>
    </Column>
  </Listing>
  <div v-if="offers.isFetched.value && unmapped.isFetched.value" class="top">
    <h2>
      {{ $t('access.accessAndEnrolmentSideBy') }}<template v-if="one"> · {{ one.name }}</template>
    </h2>
    <RouterLink v-if="id" to="/access">{{ $t('access.allOffers') }}</RouterLink>
    <TickField v-model="mismatches" :label="$t('access.onlyWhereTheyDoNot')" />
  </div>
  <Listing
    v-if="offers.isFetched.value && unmapped.isFetched.value"
    :rows="sides.data.value"
    :loading="sides.isLoading.value"
    :error="sides.error.value"
    :again="sides.refetch"
    :empty="mismatches ? $t('access.accessAndEnrolmentAgreeEverywhere') : $t('access.nobodyHasOrHadAccess')"
    :tall="(sides.data.value?.length ?? 0) > 30 ? 38 : undefined"
  >
    <Column :header="$t('common.person')">
      <template #body="{ data }">
        <RouterLink v-if="data?.personId" :to="`/people/${data.personId}`">{{ data.person }}</RouterLink>
        <template v-else>{{ data?.person }}</template>
      </template>
    </Column>
    <Column field="section" :header="$t('common.section')" />
    <Column field="offer" :header="$t('access.offer')" />
    <Column :header="$t('access.access')">
      <template #body="{ data }"
        >{{ data?.access === 'grace' ? $t('access.inGrace') : data?.access
        }}<span v-if="data?.endsOn" class="faint"
          >{{ ' ' }}{{ $t('access.until', { endsOn: when(data.endsOn) }) }}</span
        ></template
      >
    </Column>
    <Column :header="$t('access.enrolled')">
      <template #body="{ data }">{{ data?.enrolled ? $t('access.yes') : $t('access.no') }}</template>
    </Column>
    <Column :header="$t('access.agree')">
      <template #body="{ data }"
        ><span v-if="data" :class="{ urgent: data.verdict.includes('without') }"
          >{{ verdicts[data.verdict] }}
        </span>
        <RouterLink v-if="data?.state === 'waiting'" to="/deliveries?state=waiting">{{
          $t('access.deliveryWaits')
        }}</RouterLink></template
      >
    </Column>
  </Listing>
  <Purchases v-if="offers.isFetched.value && sides.isFetched.value" :offer="one" />
  <AccessSteps
    v-if="offers.data.value && !offers.data.value.items.some((o) => o.active + o.ended)"
    :offers="offers.data.value.items"
  />
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
