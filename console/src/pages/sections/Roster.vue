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
    :title="section.data.value?.label ?? 'Section'"
    :about="section.data.value?.apart || 'Who is in it by the register, and who was'"
  >
    <WhenField v-if="shown === 'roster'" v-model="on" of="date" hidden label="On the day" />
  </PageHead>
  <Tabs
    v-model="shown"
    label="Show"
    :tabs="[
      { name: 'roster', title: on ? 'who was in it on that day' : 'who is in it' },
      { name: 'movements', title: 'who joined and left' },
    ]"
  />
  <Listing
    :rows="list.data.value"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    :empty="shown === 'roster' ? 'Nobody was in it then.' : 'Nobody joined or left yet.'"
  >
    <Column header="Person">
      <template #body="{ data }"
        ><RouterLink :to="`/people/${data.personId}`">{{ data.name }}</RouterLink></template
      >
    </Column>
    <Column field="identifier" header="Identifier" />
    <Column field="role" header="Role" />
    <Column header="Joined"
      ><template #body="{ data }">{{ data.joinedAt ? when(data.joinedAt) : '' }}</template></Column
    >
    <Column header="Left"
      ><template #body="{ data }">{{ data.leftAt ? when(data.leftAt) : '' }}</template></Column
    >
  </Listing>
</template>
