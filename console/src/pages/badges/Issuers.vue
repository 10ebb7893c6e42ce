<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import { when } from '../../parts/when'
import { word } from '../../parts/words'
import HolderTerms from './HolderTerms.vue'
import IssuerDialog from './IssuerDialog.vue'

/** Who gives out badges, and the keys by which that is seen. */
const issuers = useQuery({ queryKey: ['issuers'], queryFn: () => ok(api.GET('/api/v1/issuers')) })
const queries = useQueryClient()
const chosen = ref<Schemas['Issuer']>()
const editing = ref<Schemas['Issuer']>()
const keys = useQuery({
  queryKey: ['issuers', () => chosen.value?.id, 'keys'],
  queryFn: () => ok(api.GET('/api/v1/issuers/{id}/keys', { params: { path: { id: chosen.value!.id } } })),
  enabled: () => !!chosen.value,
})
const rotate = useMutation({
  mutationFn: (id: string) => ok(api.POST('/api/v1/issuers/{id}/rotate-keys', { params: { path: { id } } })),
  onSuccess: () => queries.invalidateQueries({ queryKey: ['issuers'] }),
})
const remove = useMutation({
  mutationFn: (id: string) => ok(api.DELETE('/api/v1/issuers/{id}', { params: { path: { id } } })),
  onSuccess: (_, id) => {
    if (chosen.value?.id === id) chosen.value = undefined
    return queries.invalidateQueries({ queryKey: ['issuers'] })
  },
})
</script>

<template>
  <PageHead :title="$t('shell.issuers')" :about="$t('badges.aboutIssuers')" />
  <Listing
    :rows="issuers.data.value?.items"
    :loading="issuers.isLoading.value"
    :error="issuers.error.value"
    :again="issuers.refetch"
    :empty="$t('badges.noIssuerYet')"
  >
    <Column field="name" :header="$t('badges.issuer')" />
    <Column :header="$t('badges.publicProfile')">
      <template #body="{ data }"
        ><a :href="data.address" target="_blank" rel="noopener">{{ data.address }}</a></template
      >
    </Column>
    <Column header="">
      <template #body="{ data }">
        <Button
          size="small"
          variant="text"
          :label="$t('badges.keys')"
          :aria-label="$t('badges.keysOf', { name: data.name })"
          @click="chosen = data"
        />
        <Button
          size="small"
          variant="text"
          :label="$t('badges.change')"
          :aria-label="$t('badges.changeIssuer', { name: data.name })"
          @click="editing = data"
        />
        <Button
          size="small"
          variant="text"
          :label="$t('common.remove')"
          :aria-label="$t('badges.removeIssuer', { name: data.name })"
          :loading="remove.isPending.value && remove.variables.value === data.id"
          @click="remove.mutate(data.id)"
        />
      </template>
    </Column>
  </Listing>
  <Oops :error="remove.error.value" />
  <template v-if="chosen">
    <h2>{{ $t('badges.keysOf', { name: chosen.name }) }}</h2>
    <p class="faint">{{ $t('badges.aboutKeys') }}</p>
    <p v-if="chosen.did" class="faint">
      {{ $t('badges.alsoDid') }} <span class="key">{{ chosen.did }}</span>
    </p>
    <p v-else class="faint">{{ $t('badges.noDid') }}</p>
    <Listing
      :rows="keys.data.value?.items"
      :loading="keys.isLoading.value"
      :error="keys.error.value"
      :again="keys.refetch"
      :empty="$t('badges.noKeyYet')"
    >
      <Column :header="$t('badges.signs')">
        <template #body="{ data }">{{
          data.retiredAt
            ? $t('badges.retiredAt', { at: when(data.retiredAt) })
            : word(`key-${data.algorithm.toLowerCase()}`)
        }}</template>
      </Column>
      <Column field="algorithm" :header="$t('badges.algorithm')" />
      <Column :header="$t('badges.madeAt')">
        <template #body="{ data }"
          ><span class="faint">{{ when(data.createdAt) }}</span></template
        >
      </Column>
      <Column :header="$t('badges.publishedAt')">
        <template #body="{ data }"
          ><a :href="data.address" target="_blank" rel="noopener" class="key">{{ data.id }}</a></template
        >
      </Column>
    </Listing>
    <p>
      <Button
        size="small"
        variant="outlined"
        :label="$t('badges.newKeys')"
        :loading="rotate.isPending.value"
        @click="rotate.mutate(chosen.id)"
      />
    </p>
    <Oops :error="rotate.error.value" />
  </template>
  <HolderTerms />
  <IssuerDialog v-if="editing" :issuer="editing" @close="editing = undefined" />
</template>

<style scoped>
.key {
  font-family: var(--mono, monospace);
  font-size: 0.85em;
}
</style>
