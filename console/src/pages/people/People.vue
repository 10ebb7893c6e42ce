<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Column from 'primevue/column'
import { computed } from 'vue'

import { api, ok } from '../../api/client'
import { useAddress } from '../../parts/address'
import TextField from '../../parts/form/TextField.vue'
import Listing from '../../parts/Listing.vue'
import PageHead from '../../parts/PageHead.vue'
import { $t } from '../../texts'

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
  if (!enough.value || !page?.items.length) return $t('people.whereSomebodyIsWhereNot')
  const n = (page.total ?? page.items.length).toLocaleString()
  return (page.total ?? 0) > page.items.length
    ? $t('people.firstOfWhoFitType', { items: page.items.length, n })
    : $t('people.personFits', { n }, page.items.length)
})
</script>

<template>
  <PageHead :title="$t('common.people')" :about="about">
    <TextField
      v-model="text"
      type="search"
      :placeholder="$t('people.nameAddressOrIdentifier')"
      hidden
      :label="$t('people.findPeople')"
      autofocus
    />
  </PageHead>
  <p v-if="!enough" class="sheet empty faint">{{ $t('people.typeAtLeastTwoLetters') }}</p>
  <Listing
    v-else
    :rows="list.data.value?.items"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    :empty="$t('people.nobodyFitsOnlyPeopleWhom')"
    :next="{ to: '/connections', text: $t('people.seeRegisters') }"
  >
    <Column :header="$t('common.name')">
      <template #body="{ data }"
        ><RouterLink :to="`/people/${data.id}`">{{ data.name }}</RouterLink></template
      >
    </Column>
    <Column field="identifier" :header="$t('people.identifier')" />
    <Column field="email" :header="$t('common.address')" />
    <Column field="userName" :header="$t('people.userName')" />
    <Column field="register" :header="$t('people.register')" />
  </Listing>
</template>

<style scoped>
.empty {
  padding: 1.4rem;
}
</style>
