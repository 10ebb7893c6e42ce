<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { computed, ref, watch } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import { useAddress } from '../../parts/address'
import TickField from '../../parts/form/TickField.vue'
import Listing from '../../parts/Listing.vue'
import Pager from '../../parts/Pager.vue'
import { when } from '../../parts/when'
import { $t } from '../../texts'
import GiveForm from './GiveForm.vue'

/** What was bought and what was given by hand, one purchase a line. */
const props = defineProps<{ offer?: Schemas['Offer'] }>()
const address = useAddress()
const troubled = address.tick('troubled')
const cursor = address.cursors()
watch([troubled, () => props.offer?.id], () => (cursor.value = []))
const list = useQuery({
  queryKey: ['accesses', () => props.offer?.id, troubled, cursor],
  queryFn: () =>
    ok(
      api.GET('/api/v1/accesses', {
        params: {
          query: { offer: props.offer?.id, troubled: troubled.value, cursor: cursor.value.at(-1), limit: 50 },
        },
      }),
    ),
})
const form = ref<{ give?: Schemas['Offer']; end?: Schemas['Access']; whose?: Schemas['Access'] }>()
const words = {
  active: $t('access.hasAccess'),
  grace: $t('access.inGraceSign'),
  ended: $t('access.endedSign'),
  none: $t('access.givesNothing'),
}
const rows = computed(() => list.data.value?.items)
</script>

<template>
  <div class="top">
    <h2>
      {{ $t('access.purchasesAndAccessByHand') }}<template v-if="offer"> · {{ offer.name }}</template>
    </h2>
    <TickField id="troubled" v-model="troubled" :label="$t('access.onlyWhatGivesNothingAlthough')" />
    <Button
      v-if="offer"
      size="small"
      variant="outlined"
      :label="$t('access.giveAccessByHandDialog')"
      @click="form = { give: offer }"
    />
  </div>
  <Listing
    :rows="rows"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    :empty="troubled ? $t('access.everythingForWhichThereIs') : $t('access.nothingWasBoughtOrGiven')"
  >
    <Column :header="$t('common.person')">
      <template #body="{ data }">
        <RouterLink v-if="data.personId" :to="`/people/${data.personId}`">{{ data.person }}</RouterLink>
        <template v-else>{{ data.buyer || data.name || $t('access.noAddress') }}</template>
      </template>
    </Column>
    <Column field="offer" :header="$t('access.offer')" />
    <Column :header="$t('access.orderColumn')">
      <template #body="{ data }"
        ><span v-if="data.givenBy">{{
          $t('access.byHand', { givenBy: data.givenBy, reason: data.reason })
        }}</span
        ><template v-else>{{ data.order }}</template></template
      >
    </Column>
    <Column :header="$t('access.access')">
      <template #body="{ data }"
        ><span :class="{ urgent: data.trouble }"
          >{{ words[data.state as keyof typeof words]
          }}<template v-if="data.why">: {{ data.why }}</template></span
        ><span v-if="data.endsOn" class="faint"
          >{{ ' ' }}{{ $t('access.until', { endsOn: when(data.endsOn) }) }}</span
        ></template
      >
    </Column>
    <Column :header="$t('common.sections')"
      ><template #body="{ data }">{{ data.sections.join(', ') }}</template></Column
    >
    <Column>
      <template #body="{ data }">
        <Button
          v-if="!data.personId && data.state !== 'ended'"
          size="small"
          variant="text"
          :label="$t('access.sayWhoseItIs')"
          @click="form = { whose: data }"
        />
        <Button
          v-if="data.givenBy && data.state !== 'ended'"
          size="small"
          variant="text"
          :label="$t('access.end')"
          :aria-label="$t('access.endAccessOf', { person: data.person })"
          @click="form = { end: data }"
        />
      </template>
    </Column>
  </Listing>
  <Pager v-model="cursor" :next="list.data.value?.next" />
  <GiveForm v-if="form" v-bind="form" @close="form = undefined" />
</template>

<style scoped>
.urgent {
  color: var(--signal);
  font-weight: 600;
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
