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
import BadgeForm from './BadgeForm.vue'
import RevokeDialog from './RevokeDialog.vue'

const badges = useQuery({ queryKey: ['badges'], queryFn: () => ok(api.GET('/api/v1/badges')) })
const awards = useQuery({ queryKey: ['awards'], queryFn: () => ok(api.GET('/api/v1/awards')) })
const queries = useQueryClient()
const remove = useMutation({
  mutationFn: (id: string) => ok(api.DELETE('/api/v1/badges/{id}', { params: { path: { id } } })),
  onSuccess: () => queries.invalidateQueries({ queryKey: ['badges'] }),
})
const restore = useMutation({
  mutationFn: (id: string) => ok(api.POST('/api/v1/awards/{id}/restore', { params: { path: { id } } })),
  onSuccess: () => queries.invalidateQueries(),
})
const form = ref(false)
const revoking = ref<Schemas['Award']>()
</script>

<template>
  <PageHead title="Badges" about="Open Badges 3.0, signed, verifiable by anyone without this software">
    <Button size="small" label="Make a badge…" @click="form = true" />
  </PageHead>
  <Listing
    :rows="badges.data.value?.items"
    :loading="badges.isLoading.value"
    :error="badges.error.value"
    :again="badges.refetch"
    empty="No badge yet. Make one, then let a rule award it."
  >
    <Column field="name" header="Badge" />
    <Column field="issuer" header="Issuer" />
    <Column field="description" header="What it is for" />
    <Column field="criteria" header="What it takes" />
    <Column header="Held by">
      <template #body="{ data }"
        >{{ data.awards
        }}<span v-if="data.revoked" class="faint">, revoked {{ data.revoked }}</span></template
      >
    </Column>
    <Column header="">
      <template #body="{ data }">
        <Button
          v-if="!data.awards && !data.revoked"
          size="small"
          variant="text"
          label="Remove"
          :aria-label="`Remove the badge ${data.name}`"
          :loading="remove.isPending.value && remove.variables.value === data.id"
          @click="remove.mutate(data.id)"
        />
      </template>
    </Column>
  </Listing>
  <Oops :error="remove.error.value" />
  <h2>Awards</h2>
  <Listing
    :rows="awards.data.value?.items"
    :loading="awards.isLoading.value"
    :error="awards.error.value"
    :again="awards.refetch"
    empty="Nobody has been awarded yet."
    :next="{ to: '/rules', text: 'Make a rule that awards one' }"
  >
    <Column header="At"
      ><template #body="{ data }"
        ><span class="faint">{{ when(data.awardedAt) }}</span></template
      ></Column
    >
    <Column field="person" header="Person" />
    <Column field="badge" header="Badge" />
    <Column header="Public page">
      <template #body="{ data }"
        ><a :href="data.address" target="_blank" rel="noopener">{{ data.address }}</a></template
      >
    </Column>
    <Column header="">
      <template #body="{ data }">
        <span v-if="data.revokedAt" class="revoked"
          >revoked {{ when(data.revokedAt) }}: {{ data.reason
          }}<Button
            size="small"
            variant="text"
            label="Restore"
            :aria-label="`Restore ${data.badge} of ${data.person}`"
            :loading="restore.isPending.value && restore.variables.value === data.id"
            @click="restore.mutate(data.id)"
        /></span>
        <Button
          v-else
          size="small"
          variant="text"
          label="Revoke…"
          :aria-label="`Revoke ${data.badge} of ${data.person}`"
          @click="revoking = data"
        />
      </template>
    </Column>
  </Listing>
  <Oops :error="restore.error.value" />
  <BadgeForm v-if="form" @close="form = false" />
  <RevokeDialog v-if="revoking" :award="revoking" @close="revoking = undefined" />
</template>

<style scoped>
.revoked {
  color: var(--signal);
}
</style>
