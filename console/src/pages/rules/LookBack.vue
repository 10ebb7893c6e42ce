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
  <section class="sheet" :aria-label="$t('rules.lookBack')">
    <h2>
      {{ $t('rules.lookBack') }} <span class="faint">{{ $t('rules.whatItWouldHaveDone') }}</span>
    </h2>
    <div class="bar">
      <ChoiceField
        v-model="days"
        hidden
        :label="$t('rules.howFarBack')"
        :options="[1, 7, 30, 90, 365].map((n) => ({ value: n, label: $t('rules.lastDay', { n }, n) }))"
      />
      <Button
        size="small"
        :label="$t('rules.lookBack')"
        :loading="back.isFetching.value"
        @click="asked ? back.refetch() : (asked = true)"
      />
      <Button
        v-if="b?.would.length"
        size="small"
        variant="outlined"
        :label="$t('rules.catchUpWithThese', { would: b.would.length })"
        :disabled="!on"
        :title="on ? '' : $t('rules.switchRuleOnFirst')"
        @click="catchUp.mutate()"
      />
    </div>
    <Oops :error="back.error.value ?? catchUp.error.value" />
    <template v-if="b">
      <p>
        <i18n-t keypath="rules.eventsConditionHeldForDone" scope="global"
          ><template #events>{{ b.events }}</template
          ><template #held>{{ b.held }}</template
          ><template #already>{{ b.already }}</template
          ><template #what
            ><b>{{ $t('rules.toDo', { would: b.would.length }) }}</b></template
          ><template #more
            ><template v-if="b.unclear">{{
              $t('rules.forItCannotBeWorked', { unclear: b.unclear })
            }}</template></template
          ><template #thereWereMoreThanCan
            ><template v-if="b.more">{{ $t('rules.thereWereMoreThanCan') }}</template></template
          ></i18n-t
        >
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
        <Column :header="$t('common.at')"
          ><template #body="{ data }">{{ data ? when(data.occurredAt) : '' }}</template></Column
        >
        <Column field="person" :header="$t('common.person')" />
        <Column field="section" :header="$t('common.section')" />
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
