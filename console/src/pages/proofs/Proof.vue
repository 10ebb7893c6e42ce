<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { computed } from 'vue'

import { api, ok } from '../../api/client'
import { ask } from '../../parts/form/ask'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import Signal from '../../parts/Signal.vue'
import { when } from '../../parts/when'
import { word } from '../../parts/words'
import { $t } from '../../texts'

/** A test learner's way through a section: what arrived where, and the one action that reverts it. */
const props = defineProps<{ id: string }>()
const queries = useQueryClient()
const at = () => ({ params: { path: { id: props.id } } })
const proof = useQuery({
  queryKey: ['proofs', () => props.id],
  queryFn: () => ok(api.GET('/api/v1/proofs/{id}', at())),
})
const p = computed(() => proof.data.value)
const again = () => queries.invalidateQueries({ queryKey: ['proofs'] })
const go = useMutation({
  mutationFn: () => ok(api.POST('/api/v1/proofs/{id}/continue', at())),
  onSettled: again,
})
const revert = useMutation({
  mutationFn: (anyway: boolean) => ok(api.POST('/api/v1/proofs/{id}/revert', { ...at(), body: { anyway } })),
  onSettled: again,
})
/** What is tried once; deliveries of rules are tried again by themselves. */
const open = computed(() =>
  p.value?.steps.some(
    (x) => ['class', 'module', 'score'].includes(x.kind) && (x.state === 'waits' || x.state === 'failed'),
  ),
)
const about = computed(() => {
  const x = p.value
  const at = when(x?.startedAt)
  switch (x?.state) {
    case 'running':
      return $t('proofs.running', { by: x.startedBy, at, address: x.address })
    case 'done':
      return $t('proofs.done', { by: x.startedBy, at, address: x.address })
    case 'reverting':
      return $t('proofs.reverting', { by: x.startedBy, at })
  }
  return x && $t('proofs.reverted')
})
/** Reverting has come to a stop: something is in its way. */
const stuck = computed(() => p.value?.state === 'reverting' && p.value.remains.length > 0)
async function leave() {
  const yes = await ask({
    title: $t('proofs.leaveTitle'),
    text: p.value!.remains.join('\n'),
    yes: $t('proofs.leave'),
  })
  if (yes) revert.mutate(true)
}
</script>

<template>
  <PageHead
    :title="p ? $t('proofs.of', { learner: p.learner, section: p.section }) : $t('shell.proofs')"
    :about="about"
  >
    <Button
      v-if="p?.state === 'done' && open"
      size="small"
      severity="secondary"
      :label="$t('proofs.goOn')"
      :loading="go.isPending.value"
      @click="go.mutate()"
    />
    <Button
      v-if="p && p.state !== 'reverted' && (p.state !== 'reverting' || stuck)"
      size="small"
      :label="$t('proofs.revert')"
      :loading="revert.isPending.value"
      @click="revert.mutate(false)"
    />
    <Button v-if="stuck" size="small" severity="secondary" :label="$t('proofs.leave')" @click="leave" />
  </PageHead>
  <Oops :error="go.error.value ?? revert.error.value" />
  <template v-if="p?.remains.length">
    <h2>{{ p.state === 'reverted' ? $t('proofs.remains') : $t('proofs.inTheWay') }}</h2>
    <ul>
      <li v-for="x in p.remains" :key="x">{{ x }}</li>
    </ul>
  </template>
  <Listing
    :rows="p?.steps"
    :loading="proof.isLoading.value"
    :error="proof.error.value"
    :again="proof.refetch"
    :empty="$t('proofs.nothingYet')"
    :next="{ to: '/proofs', text: $t('proofs.all') }"
  >
    <Column :header="$t('proofs.what')">
      <template #body="{ data }">{{ word(`proof-${data.kind}`) }}</template>
    </Column>
    <Column :header="$t('proofs.which')">
      <template #body="{ data }">
        <RouterLink v-if="data.link && data.title && p?.state !== 'reverted'" :to="data.link">{{
          data.title
        }}</RouterLink>
        <template v-else>{{ data.title }}</template>
      </template>
    </Column>
    <Column field="where" :header="$t('proofs.where')" />
    <Column :header="$t('proofs.state')">
      <template #body="{ data }"><Signal :state="data.state" /></template>
    </Column>
    <Column field="detail" :header="$t('proofs.detail')" />
    <Column :header="$t('proofs.when')">
      <template #body="{ data }">{{ data.state === 'not-set-up' ? '' : when(data.at) }}</template>
    </Column>
  </Listing>
  <p v-if="p && p.state !== 'reverted'" class="faint">{{ $t('proofs.countsNowhere') }}</p>
</template>
