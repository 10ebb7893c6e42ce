<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, ok, type Query, type Schemas } from '../../api/client'
import { useAddress } from '../../parts/address'
import { people, person as personOf, section as sectionOf, sections } from '../../parts/find'
import Finder from '../../parts/Finder.vue'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import Outside from '../../parts/Outside.vue'
import PageHead from '../../parts/PageHead.vue'
import Pager from '../../parts/Pager.vue'
import Signal from '../../parts/Signal.vue'
import { useSince } from '../../parts/since'
import SinceField from '../../parts/SinceField.vue'
import { doing } from '../../parts/triggers'
import { exactly } from '../../parts/when'
import { deliveryState } from '../../parts/words'
import { mayAll } from '../../shell/may'
import { $t } from '../../texts'
import { useInterfaces } from '../connections/interface'
import GiveUp from './GiveUp.vue'

/** Deliveries of every event, by state, rule, interface, person, section and time; live. */
const router = useRouter()
const queries = useQueryClient()
const address = useAddress()
const state = address.kept<NonNullable<Query<'list-deliveries'>['state']>>('state')
const rule = address.kept('rule')
const service = address.kept('interface')
const person = address.kept('person')
const section = address.kept('section')
const { hours, since } = useSince(address)
const cursor = address.cursors()
const query = computed(() => ({
  state: state.value || undefined,
  rule: rule.value || undefined,
  interface: service.value || undefined,
  person: person.value || undefined,
  section: section.value || undefined,
  since: since.value,
  cursor: cursor.value.at(-1),
  limit: 50,
}))
const list = useQuery({
  queryKey: ['deliveries', 'search', query],
  queryFn: () => ok(api.GET('/api/v1/deliveries', { params: { query: query.value } })),
  placeholderData: (before) => before,
})
const rules = useQuery({
  queryKey: ['rules'],
  queryFn: () => ok(api.GET('/api/v1/rules')),
  enabled: mayAll('look'),
})
const interfaces = useInterfaces()
const told = ref('')
const retry = useMutation({
  mutationFn: () =>
    ok(
      api.POST('/api/v1/deliveries/retry', {
        body: {
          ruleId: rule.value || undefined,
          interfaceId: service.value || undefined,
          since: since.value,
        },
      }),
    ),
  onSuccess: (r) => {
    told.value = $t('events.trying1Again', { deliveries: r.deliveries }, r.deliveries)
    return queries.invalidateQueries({ queryKey: ['deliveries'] })
  },
})
const narrowed = computed(() => !!(rule.value || service.value || hours.value))
const givingUp = ref(false)
type OpenState = 'planned' | 'queued' | 'retrying' | 'waiting'
const open = computed(() =>
  ['planned', 'queued', 'retrying', 'waiting'].includes(state.value) ? (state.value as OpenState) : undefined,
)
/** Person, section and time narrow the list only: what is given up is that of a rule or interface. */
const chosen = computed(
  () =>
    (rule.value || service.value) &&
    (!state.value || open.value) &&
    !person.value &&
    !section.value &&
    !hours.value,
)
const states = ['planned', 'queued', 'retrying', 'delivered', 'waiting', 'skipped', 'stopped']
const why = (d: Schemas['Delivery']) =>
  d.error ?? (d.held ? `${d.held}${d.nextAt ? $t('events.until', { nextAt: exactly(d.nextAt) }) : ''}` : '')
</script>

<template>
  <PageHead :title="$t('common.deliveries')" :about="$t('events.whatRulesAndOffersDid')">
    <Button
      size="small"
      variant="outlined"
      :label="$t('events.tryTheseAgain')"
      :disabled="!narrowed"
      :title="narrowed ? $t('events.thoseThatWaitOrWould') : $t('events.chooseRuleInterfaceOrTime')"
      @click="retry.mutate()"
    />
    <Button
      size="small"
      variant="outlined"
      :label="$t('events.giveTheseUp')"
      :disabled="!chosen"
      :title="chosen ? $t('events.thoseThatAreStillTo') : $t('events.chooseRuleOrInterfaceAnd')"
      @click="givingUp = true"
    />
  </PageHead>
  <GiveUp
    v-if="givingUp"
    :rule="rule || undefined"
    :service="service || undefined"
    :state="open"
    :what="
      $t('events.allDeliveriesOfThisChoice', { open: open ?? $t('events.plannedQueuedRetryingAndWaiting') })
    "
    @close="givingUp = false"
    @done="
      (text) => {
        told = text
        givingUp = false
      }
    "
  />
  <div class="actions filters" role="search">
    <ChoiceField
      v-model="state"
      hidden
      :label="$t('common.state')"
      :options="[
        { value: '', label: $t('events.everyState') },
        ...states.map((s) => ({ value: s, label: s })),
      ]"
    />
    <ChoiceField
      v-model="rule"
      hidden
      :label="$t('common.rule')"
      :options="[
        { value: '', label: $t('events.everyRule') },
        ...(rules.data.value?.items ?? []).map((r) => ({ value: r.id, label: r.name })),
      ]"
    />
    <ChoiceField
      v-model="service"
      hidden
      :label="$t('events.interface')"
      :options="[
        { value: '', label: $t('events.everyInterface') },
        ...(interfaces.data.value?.items ?? []).map((c) => ({ value: c.id, label: c.name })),
      ]"
    />
    <SinceField v-model="hours" />
    <Finder v-model="person" :label="$t('events.person')" :search="people" :named="personOf" />
    <Finder v-model="section" :label="$t('events.section')" :search="sections" :named="sectionOf" />
  </div>
  <Oops :error="retry.error.value" />
  <p v-if="told" role="status">{{ told }}</p>
  <Listing
    :rows="list.data.value?.items"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    :choose="(d) => router.push(`/events/${(d as Schemas['Delivery']).eventId}`)"
    :empty="$t('events.noDeliveryFits')"
    :next="{ to: '/rules', text: $t('events.seeRulesThatMakeThem') }"
  >
    <Column :header="$t('common.state')">
      <template #body="{ data }"><Signal :state="deliveryState(data)" /></template>
    </Column>
    <Column :header="$t('common.at')"
      ><template #body="{ data }"
        ><span class="faint">{{ exactly(data.finishedAt ?? data.createdAt) }}</span></template
      ></Column
    >
    <Column :header="$t('events.ruleOrOffer')">
      <template #body="{ data }"
        ><RouterLink :to="`/events/${data.eventId}`" @click.stop>{{ data.rule }}</RouterLink>
        <span v-if="data.undoes" class="faint">{{ $t('events.reverts') }}</span></template
      >
    </Column>
    <Column :header="$t('events.does')">
      <template #body="{ data }"
        >{{ doing(data.action)
        }}<span v-if="data.interface" class="faint"
          >{{ ' ' }}{{ $t('events.through') }} <Outside :to="data.page" :text="data.interface" /></span
      ></template>
    </Column>
    <Column field="person" :header="$t('common.person')" />
    <Column :header="$t('events.tries')">
      <template #body="{ data }">{{ data.attempts || '' }}</template>
    </Column>
    <Column :header="$t('common.why')">
      <template #body="{ data }"
        ><span :class="{ urgent: data.state === 'waiting' }">{{ why(data) }}</span></template
      >
    </Column>
  </Listing>
  <Pager v-model="cursor" :next="list.data.value?.next" />
</template>

<style scoped>
.filters {
  margin-bottom: 0.7rem;
}

.urgent {
  color: var(--signal);
}
</style>
