<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'

import { api, ok } from '../../api/client'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'

/** Records of which somebody said that they are two people's. */
const queries = useQueryClient()
const list = useQuery({
  queryKey: ['same-people', 'two-people'],
  queryFn: () => ok(api.GET('/api/v1/same-people/two-people')),
})
const drop = useMutation({
  mutationFn: (id: string) =>
    ok(api.DELETE('/api/v1/same-people/two-people/{id}', { params: { path: { id } } })),
  onSuccess: () => queries.invalidateQueries(),
})
</script>

<template>
  <Oops :error="drop.error.value" />
  <Listing
    :rows="list.data.value?.items"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    :empty="$t('people.nobodyKeptApart')"
  >
    <Column :header="$t('common.person')">
      <template #body="{ data }"
        >{{ data.a }} <small class="faint below">{{ data.aRegister }}</small></template
      >
    </Column>
    <Column :header="$t('people.also')">
      <template #body="{ data }"
        >{{ data.b }} <small class="faint below">{{ data.bRegister }}</small></template
      >
    </Column>
    <Column field="decidedBy" :header="$t('people.pairSaidBy')" />
    <Column>
      <template #body="{ data }"
        ><Button
          size="small"
          variant="text"
          :label="$t('people.dropThat')"
          :aria-label="$t('people.dropThatNamed', { name: data.a })"
          @click="drop.mutate(data.id)"
      /></template>
    </Column>
  </Listing>
</template>
