<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { computed, ref } from 'vue'

import { api, ok } from '../../api/client'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import { when } from '../../parts/when'

/** What a rule would have done, and catching up with it. */
const props = defineProps<{ id: string; on: boolean }>()
const queries = useQueryClient()
const days = ref(30)
const asked = ref(false)
const back = useQuery({
  queryKey: ['look-back', () => props.id, days],
  queryFn: () =>
    ok(
      api.GET('/api/v1/rules/{id}/look-back', {
        params: { path: { id: props.id }, query: { days: days.value } },
      }),
    ),
  enabled: asked,
})
const b = computed(() => back.data.value)
const catchUp = useMutation({
  mutationFn: () =>
    ok(
      api.POST('/api/v1/rules/{id}/catch-up', {
        params: { path: { id: props.id } },
        body: { since: b.value!.since, count: b.value!.would.length },
      }),
    ),
  onSuccess: () => queries.invalidateQueries({ queryKey: ['look-back'] }),
})
</script>

<template>
  <section class="sheet" aria-label="Look back">
    <h2>Look back <span class="faint">what it would have done</span></h2>
    <div class="bar">
      <ChoiceField
        v-model="days"
        hidden
        label="How far back"
        :options="
          [1, 7, 30, 90, 365].map((n) => ({ value: n, label: `the last ${n === 1 ? 'day' : `${n} days`}` }))
        "
      />
      <Button
        size="small"
        label="Look back"
        :loading="back.isFetching.value"
        @click="asked ? back.refetch() : (asked = true)"
      />
      <Button
        v-if="b?.would.length"
        size="small"
        variant="outlined"
        :label="`Catch up with these ${b.would.length}`"
        :disabled="!on"
        :title="on ? '' : 'Switch the rule on first'"
        @click="catchUp.mutate()"
      />
    </div>
    <Oops :error="back.error.value ?? catchUp.error.value" />
    <template v-if="b">
      <p>
        {{ b.events }} events; the condition held for {{ b.held }}, done already for {{ b.already }},
        <b>{{ b.would.length }} to do</b
        ><template v-if="b.unclear">; for {{ b.unclear }} it cannot be worked out</template>.
        <template v-if="b.more">There were more than can be looked at in one go.</template>
      </p>
      <Listing
        v-if="b.would.length"
        :rows="b.would"
        :loading="false"
        :error="null"
        row-key="eventId"
        empty=""
        :tall="b.would.length > 12 ? 36 : undefined"
      >
        <Column header="At"
          ><template #body="{ data }">{{ data ? when(data.occurredAt) : '' }}</template></Column
        >
        <Column field="person" header="Person" />
        <Column field="section" header="Section" />
      </Listing>
    </template>
  </section>
</template>

<style scoped>
section {
  padding: 0 1rem 0.8rem;
  margin-bottom: 1rem;
}

h2 {
  margin-top: 0.8rem;
}

.bar {
  display: flex;
  gap: 0.8rem;
}

p {
  margin: 0.5rem 0;
}
</style>
