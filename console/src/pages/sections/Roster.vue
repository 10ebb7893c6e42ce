<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Column from 'primevue/column'
import { computed } from 'vue'

import { api, ok } from '../../api/client'
import { useAddress } from '../../parts/address'
import { section as sectionOf } from '../../parts/find'
import WhenField from '../../parts/form/WhenField.vue'
import Listing from '../../parts/Listing.vue'
import PageHead from '../../parts/PageHead.vue'
import Tabs from '../../parts/Tabs.vue'
import { when } from '../../parts/when'

/** Who was in a section on a day, and everybody who joined or left it. */
const props = defineProps<{ id: string }>()
const address = useAddress()
const shown = address.kept('show', 'roster')
const on = address.kept('on')
const path = computed(() => ({ id: props.id }))
const section = useQuery({
  queryKey: ['sections', 'called', () => props.id],
  queryFn: async () => (await sectionOf(props.id)) ?? null,
})
const list = useQuery({
  queryKey: ['sections', 'roster', () => props.id, shown, on],
  queryFn: async () => {
    const page =
      shown.value === 'movements'
        ? await ok(api.GET('/api/v1/sections/{id}/movements', { params: { path: path.value } }))
        : await ok(
            api.GET('/api/v1/sections/{id}/roster', {
              params: { path: path.value, query: { at: on.value || undefined } },
            }),
          )
    return page.items.map((x, i) => ({ id: i, ...x }))
  },
  placeholderData: (before) => before,
})
</script>

<template>
  <PageHead
    :title="section.data.value?.label ?? $t('common.section')"
    :about="section.data.value?.apart || $t('sections.whoIsInItBy')"
  >
    <WhenField v-if="shown === 'roster'" v-model="on" of="date" hidden :label="$t('sections.onDay')" />
  </PageHead>
  <Tabs
    v-model="shown"
    :label="$t('sections.show')"
    :tabs="[
      { name: 'roster', title: on ? $t('sections.whoWasInItOn') : $t('sections.whoIsInIt') },
      { name: 'movements', title: $t('sections.whoJoinedAndLeft') },
    ]"
  />
  <Listing
    :rows="list.data.value"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    :empty="shown === 'roster' ? $t('sections.nobodyWasInItThen') : $t('sections.nobodyJoinedOrLeftYet')"
  >
    <Column :header="$t('common.person')">
      <template #body="{ data }"
        ><RouterLink :to="`/people/${data.personId}`">{{ data.name }}</RouterLink></template
      >
    </Column>
    <Column field="identifier" :header="$t('sections.identifier')" />
    <Column field="role" :header="$t('common.role')" />
    <Column :header="$t('sections.joined')"
      ><template #body="{ data }">{{ data.joinedAt ? when(data.joinedAt) : '' }}</template></Column
    >
    <Column :header="$t('sections.left')"
      ><template #body="{ data }">{{ data.leftAt ? when(data.leftAt) : '' }}</template></Column
    >
  </Listing>
</template>
