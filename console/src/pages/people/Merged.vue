<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { ref } from 'vue'

import { api, ok } from '../../api/client'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import Pager from '../../parts/Pager.vue'
import { when } from '../../parts/when'
import { word } from '../../parts/words'

/** People who became one, of all or of one person; each can be split again. */
const props = defineProps<{ person?: string }>()
const queries = useQueryClient()
const cursor = ref<string[]>([])
const list = useQuery({
  queryKey: ['merges', () => props.person, cursor],
  queryFn: () =>
    ok(
      api.GET('/api/v1/merges', {
        params: { query: { person: props.person ?? '', cursor: cursor.value.at(-1), limit: 100 } },
      }),
    ),
  placeholderData: (before) => before,
})
const split = useMutation({
  mutationFn: (id: string) => ok(api.POST('/api/v1/merges/{id}/split', { params: { path: { id } } })),
  onSuccess: () => queries.invalidateQueries(),
})
</script>

<template>
  <Oops :error="split.error.value" />
  <p v-if="split.data.value" role="status">
    {{ $t('people.splitAgain', { name: split.data.value.name, other: split.data.value.other }) }}
  </p>
  <Listing
    :rows="list.data.value?.items"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    :empty="$t('people.nobodyWasMerged')"
  >
    <Column :header="$t('common.person')">
      <template #body="{ data }"
        ><RouterLink :to="`/people/${data.personId}`">{{ data.name }}</RouterLink></template
      >
    </Column>
    <Column field="other" :header="$t('people.also')" />
    <Column :header="$t('connections.whatSpeaksForIt')">
      <template #body="{ data }">{{ data.evidence.map((s: string) => word(s)).join(', ') }}</template>
    </Column>
    <Column :header="$t('people.mergedBy')">
      <template #body="{ data }"
        >{{ data.mergedBy }} <small class="faint below">{{ when(data.mergedAt) }}</small></template
      >
    </Column>
    <Column>
      <template #body="{ data }"
        ><Button
          size="small"
          variant="outlined"
          :label="$t('people.split')"
          :aria-label="$t('people.splitNamed', { name: data.name })"
          :loading="split.isPending.value && split.variables.value === data.id"
          @click="split.mutate(data.id)"
      /></template>
    </Column>
  </Listing>
  <Pager v-model="cursor" :next="list.data.value?.next" />
</template>
