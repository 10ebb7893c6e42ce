<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, ok, type Schemas } from '../../api/client'
import Listing from '../../parts/Listing.vue'
import PageHead from '../../parts/PageHead.vue'
import { when } from '../../parts/when'
import { word } from '../../parts/words'
import StartDialog from './StartDialog.vue'

/** Test learners who went the whole way through a section, or are on it. */
const list = useQuery({ queryKey: ['proofs'], queryFn: () => ok(api.GET('/api/v1/proofs')) })
const router = useRouter()
const starting = ref(false)
const count = (p: Schemas['Proof'], state: string) => p.steps.filter((x) => x.state === state).length
const told = (p: Schemas['Proof']) =>
  ['arrived', 'waits', 'failed']
    .filter((state) => count(p, state))
    .map((state) => `${count(p, state)} ${word(state)}`)
    .join(', ')
</script>

<template>
  <PageHead :title="$t('shell.proofs')" :about="$t('proofs.about')">
    <Button size="small" :label="$t('proofs.startDialog')" @click="starting = true" />
  </PageHead>
  <Listing
    :rows="list.data.value?.items"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    :empty="$t('proofs.none')"
  >
    <Column :header="$t('common.section')">
      <template #body="{ data }"
        ><RouterLink :to="`/proofs/${data.id}`">{{ data.section }}</RouterLink></template
      >
    </Column>
    <Column field="learner" :header="$t('proofs.learner')" />
    <Column :header="$t('proofs.state')">
      <template #body="{ data }">{{ word(data.state) }}</template>
    </Column>
    <Column :header="$t('proofs.steps')">
      <template #body="{ data }">{{ told(data) }}</template>
    </Column>
    <Column :header="$t('proofs.started')">
      <template #body="{ data }"
        >{{ when(data.startedAt) }} <small class="faint below">{{ data.startedBy }}</small></template
      >
    </Column>
  </Listing>
  <StartDialog
    v-if="starting"
    @close="starting = false"
    @made="
      (id) => {
        starting = false
        $nextTick(() => router.push(`/proofs/${id}`))
      }
    "
  />
</template>
