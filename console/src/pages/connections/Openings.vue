<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Column from 'primevue/column'
import { computed } from 'vue'

import { api, ok } from '../../api/client'
import Listing from '../../parts/Listing.vue'
import PageHead from '../../parts/PageHead.vue'
import { when } from '../../parts/when'
import { word } from '../../parts/words'

/** How often the people of a course page's sections opened it; those who never did stand first. */
const props = defineProps<{ id: string }>()
const list = useQuery({
  queryKey: ['course-pages', 'openings', () => props.id],
  queryFn: () => ok(api.GET('/api/v1/course-pages/{id}/openings', { params: { path: { id: props.id } } })),
})
const never = computed(() => list.data.value?.items.filter((o) => !o.times).length ?? 0)
const rows = computed(() => list.data.value?.items.map((o) => ({ ...o, id: `${o.personId}/${o.role}` })))
</script>

<template>
  <PageHead
    :title="$t('connections.whoOpenedIt')"
    :about="rows ? $t('connections.neverOpened', { never, all: rows.length }) : ''"
  />
  <Listing
    :rows="rows"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    :empty="$t('connections.nobodyInIt')"
  >
    <Column :header="$t('common.name')">
      <template #body="{ data }"
        ><RouterLink :to="`/people/${data.personId}`">{{ data.name }}</RouterLink></template
      >
    </Column>
    <Column :header="$t('common.role')">
      <template #body="{ data }">{{ word(data.role) }}</template>
    </Column>
    <Column :header="$t('connections.openedTimes')">
      <template #body="{ data }">{{ data.times || $t('connections.never') }}</template>
    </Column>
    <Column :header="$t('connections.first')">
      <template #body="{ data }">{{ data.firstAt ? when(data.firstAt) : '' }}</template>
    </Column>
    <Column :header="$t('connections.latest')">
      <template #body="{ data }">{{ data.latestAt ? when(data.latestAt) : '' }}</template>
    </Column>
  </Listing>
</template>
