<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Column from 'primevue/column'
import { computed } from 'vue'

import { api, ok } from '../../api/client'
import { useAddress } from '../../parts/address'
import TextField from '../../parts/form/TextField.vue'
import Listing from '../../parts/Listing.vue'
import PageHead from '../../parts/PageHead.vue'

/** Finds people; a person's page says where they are, where not, and why. */
const text = useAddress().kept('text', '', true)
const enough = computed(() => text.value.trim().length >= 2)
const most = 200
const list = useQuery({
  queryKey: ['people', text],
  queryFn: () =>
    ok(api.GET('/api/v1/people', { params: { query: { text: text.value.trim(), limit: most } } })),
  enabled: enough,
  placeholderData: (before) => before,
})
const about = computed(() => {
  const page = list.data.value
  if (!enough.value || !page?.items.length) return 'Where somebody is, where not, why, and who can mend it'
  const n = (page.total ?? page.items.length).toLocaleString()
  return (page.total ?? 0) > page.items.length
    ? `The first ${page.items.length} of ${n} who fit. Type more of the name, or an identifier.`
    : `${n} ${page.items.length === 1 ? 'person fits' : 'people fit'}`
})
</script>

<template>
  <PageHead title="People" :about="about">
    <TextField
      v-model="text"
      type="search"
      placeholder="Name, address or identifier"
      hidden
      label="Find people"
      autofocus
    />
  </PageHead>
  <p v-if="!enough" class="sheet empty faint">
    Type at least two letters of a name, an address, a user name or an identifier.
  </p>
  <Listing
    v-else
    :rows="list.data.value?.items"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    empty="Nobody fits. Only people whom a register has are found."
    :next="{ to: '/connections', text: 'See the registers' }"
  >
    <Column header="Name">
      <template #body="{ data }"
        ><RouterLink :to="`/people/${data.id}`">{{ data.name }}</RouterLink></template
      >
    </Column>
    <Column field="identifier" header="Identifier" />
    <Column field="email" header="Address" />
    <Column field="userName" header="User name" />
    <Column field="register" header="Register" />
  </Listing>
</template>

<style scoped>
.empty {
  padding: 1.4rem;
}
</style>
