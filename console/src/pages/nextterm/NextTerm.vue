<script setup lang="ts">
import { useMutation, useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, ok, type Schemas } from '../../api/client'
import { useAddress } from '../../parts/address'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import NumberField from '../../parts/form/NumberField.vue'
import TickField from '../../parts/form/TickField.vue'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import { day } from '../../parts/when'

/** Classes whose term runs out, with the sections that follow. */
const router = useRouter()
const within = useAddress().kept('days', '60', true)
const days = computed({
  get: () => Number(within.value) || 0,
  set: (n: number | undefined) => (within.value = String(n ?? 60)),
})
const list = useQuery({
  queryKey: ['sections', 'next-term', days],
  queryFn: () => ok(api.GET('/api/v1/next-term', { params: { query: { days: days.value } } })),
  placeholderData: (before) => before,
})
/** Height of a row in pixels, so that thousands of them can be scrolled through. */
const height = 46
const skipped = ref<string[]>([])
/** What was chosen instead of what is proposed, by pairing. */
const chosen = ref<Record<string, string>>({})
const follows = (x: Schemas['Succession']) => chosen.value[x.pairingId] ?? x.toId
const wanted = computed(() =>
  (list.data.value ?? []).filter((x) => follows(x) && !skipped.value.includes(x.pairingId)),
)
const look = useMutation({
  mutationFn: () =>
    ok(
      api.POST('/api/v1/batches', {
        body: {
          act: 'next-term',
          pairings: wanted.value.map((x) => x.pairingId),
          to: Object.fromEntries(wanted.value.map((x) => [x.pairingId, follows(x)])),
        },
      }),
    ),
  onSuccess: (b) => router.push(`/batches/${b.id}`),
})

function toggle(x: Schemas['Succession']) {
  skipped.value = skipped.value.includes(x.pairingId)
    ? skipped.value.filter((id) => id !== x.pairingId)
    : [...skipped.value, x.pairingId]
}
</script>

<template>
  <PageHead :title="$t('common.nextTerm')" :about="$t('nextTerm.classesWhoseTermRunsOut')">
    <label
      ><i18n-t keypath="nextTerm.endsWithinDays" scope="global"
        ><template #number
          ><NumberField
            v-model="days"
            :min="0"
            :max="400"
            class="days"
            hidden
            :label="$t('nextTerm.days')" /></template></i18n-t
    ></label>
    <Button
      size="small"
      :label="$t('nextTerm.showWhatItMeans', { wanted: wanted.length })"
      :disabled="!wanted.length"
      :loading="look.isPending.value"
      @click="look.mutate()"
    />
  </PageHead>
  <Oops :error="look.error.value" />
  <Listing
    class="moves"
    :rows="list.data.value"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    row-key="pairingId"
    :tall="height"
    :empty="$t('nextTerm.noClassHasTermThat', { days })"
    :next="{ to: '/sections', text: $t('nextTerm.seeAllSections') }"
  >
    <Column style="width: 2rem">
      <template #body="{ data }">
        <TickField
          :model-value="!!follows(data) && !skipped.includes(data.pairingId)"
          hidden
          :label="$t('nextTerm.move', { from: data.from })"
          :disabled="!follows(data)"
          @update:model-value="toggle(data)"
        />
      </template>
    </Column>
    <Column :header="$t('nextTerm.sectionWhoseTermEnds')">
      <template #body="{ data }"
        ><RouterLink :to="`/pairings/${data.pairingId}`">{{ data.from }}</RouterLink></template
      >
    </Column>
    <Column :header="$t('nextTerm.ends')"
      ><template #body="{ data }"
        ><span class="faint">{{ day(data.ends) }}</span></template
      ></Column
    >
    <Column :header="$t('nextTerm.follows')">
      <template #body="{ data }">
        <ChoiceField
          v-if="data.choices?.length"
          :model-value="follows(data)"
          hidden
          :label="$t('nextTerm.whatFollows', { from: data.from })"
          :options="[
            { value: '', label: $t('common.nothing') },
            ...data.choices.map((c: { id: string; title: string; code: string }) => ({
              value: c.id,
              label: `${c.title} · ${c.code}`,
            })),
          ]"
          @update:model-value="(id) => (chosen[data.pairingId] = id ?? '')"
        />
        <span v-else class="faint">{{ $t('nextTerm.noSectionOfItsCourse') }}</span>
      </template>
    </Column>
    <Column :header="$t('nextTerm.because')"
      ><template #body="{ data }">{{
        !follows(data)
          ? ''
          : follows(data) === data.toId
            ? data.evidence?.join(', ')
            : $t('nextTerm.youChoseIt')
      }}</template></Column
    >
    <Column :header="$t('nextTerm.of100')"
      ><template #body="{ data }">{{
        follows(data) && follows(data) === data.toId ? data.score : ''
      }}</template></Column
    >
  </Listing>
</template>

<style scoped>
.days {
  width: 4.5rem;
}

.moves :deep(tbody tr) {
  height: 46px;
}

.moves :deep(.p-datatable-tbody > tr > td) {
  padding-block: 0;
  vertical-align: middle;
}
</style>
