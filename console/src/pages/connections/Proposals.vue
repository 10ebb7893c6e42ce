<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { computed } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'

/** Records of a register that look like second accounts or test learners. */
const props = defineProps<{ id: string }>()
const queries = useQueryClient()
const at = computed(() => ({ params: { path: { id: props.id } } }))
const service = useQuery({
  queryKey: ['interfaces', () => props.id],
  queryFn: () => ok(api.GET('/api/v1/interfaces/{id}', at.value)),
})
const list = useQuery({
  queryKey: ['proposals', () => props.id],
  queryFn: () => ok(api.GET('/api/v1/interfaces/{id}/proposals', at.value)),
})
const rows = computed(() => list.data.value?.items.map((p) => ({ id: p.personId, ...p })))
const decide = useMutation({
  mutationFn: ({ people, accept }: Schemas['Verdict']) =>
    ok(api.POST('/api/v1/interfaces/{id}/proposals', { ...at.value, body: { people, accept } })),
  onSuccess: () => queries.invalidateQueries(),
})
</script>

<template>
  <PageHead
    :title="$t('connections.secondAccountsAndTestLearnersName', { name: service.data.value?.name ?? '' })"
    :about="$t('connections.recordsThatLookLikeOne')"
  >
    <Button
      v-if="rows?.length"
      size="small"
      :label="$t('connections.acceptIt', { rows: rows.length }, rows.length)"
      :loading="decide.isPending.value"
      @click="decide.mutate({ people: rows.map((p) => p.personId), accept: true })"
    />
  </PageHead>
  <Oops :error="decide.error.value" />
  <p v-if="decide.data.value" role="status">
    {{ $t('connections.decidedClassesAreComparedAnew', { count: decide.data.value.count }) }}
  </p>
  <Listing
    :rows="rows"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    :empty="$t('connections.noRecordLooksLikeSecond')"
  >
    <Column :header="$t('common.person')">
      <template #body="{ data }">
        <RouterLink :to="`/people/${data.personId}`">{{ data.person }}</RouterLink>
        <div class="more">
          {{ [data.identifier, data.userName, data.email].filter(Boolean).join(' · ') }}
        </div>
      </template>
    </Column>
    <Column :header="$t('connections.seemsToBe')">
      <template #body="{ data }"
        ><template v-if="data.kind === 'second'"
          >{{ $t('connections.secondAccountOf') }}
          <RouterLink :to="`/people/${data.ofId}`">{{ data.of }}</RouterLink> ({{
            data.ofIdentifier
          }})</template
        ><template v-else>{{ $t('connections.testLearnerWord') }}</template></template
      >
    </Column>
    <Column field="evidence" :header="$t('connections.whatSpeaksForIt')" />
    <Column field="enrolments" :header="$t('common.sections')" />
    <Column>
      <template #body="{ data }">
        <Button
          size="small"
          variant="outlined"
          :label="$t('connections.itIs')"
          :aria-label="$t('connections.accept', { person: data.person })"
          @click="decide.mutate({ people: [data.personId], accept: true })"
        />
        <Button
          size="small"
          variant="text"
          :label="$t('connections.itIsNot')"
          :aria-label="$t('connections.refuse', { person: data.person })"
          @click="decide.mutate({ people: [data.personId], accept: false })"
        />
      </template>
    </Column>
  </Listing>
</template>

<style scoped>
.more {
  color: var(--faint);
  font-size: 12.5px;
}
</style>
