<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { ref } from 'vue'

import { api, ifMatch, ok, tagOf } from '../../api/client'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import TextField from '../../parts/form/TextField.vue'
import Oops from '../../parts/Oops.vue'
import { doing } from '../../parts/triggers'
import { named } from './sample'

/** Trying a rule out: everything rendered and checked, nobody reached. */
const props = defineProps<{ id: string }>()
const queries = useQueryClient()
const event = ref('')
const samples = useQuery({
  queryKey: ['rules', () => props.id, 'samples'],
  queryFn: () => ok(api.GET('/api/v1/rules/{id}/samples', { params: { path: { id: props.id } } })),
})
const recipient = useQuery({
  queryKey: ['test-recipient'],
  queryFn: () => ok(api.GET('/api/v1/test-recipient')),
  structuralSharing: false,
})
const trial = useMutation({
  mutationFn: (send: boolean) =>
    ok(
      api.POST('/api/v1/rules/{id}/trial', {
        params: { path: { id: props.id } },
        body: { eventId: event.value === 'made' ? '' : event.value, made: event.value === 'made', send },
      }),
    ),
  onSuccess: () => queries.invalidateQueries({ queryKey: ['rules'] }),
})
const setRecipient = useMutation({
  mutationFn: (address: string) =>
    ok(
      api.PUT('/api/v1/test-recipient', {
        params: { header: ifMatch(tagOf(recipient.data.value)) },
        body: { address },
      }),
    ),
  onSettled: () => queries.invalidateQueries({ queryKey: ['test-recipient'] }),
})
const plain = (v: unknown) => (typeof v === 'object' ? JSON.stringify(v) : String(v))
</script>

<template>
  <section class="sheet" :aria-label="$t('rules.tryItOut')">
    <h2>
      {{ $t('rules.tryItOut') }} <span class="faint">{{ $t('rules.nobodyIsReached') }}</span>
    </h2>
    <div class="bar">
      <ChoiceField
        v-model="event"
        hidden
        :label="$t('rules.onWhichEvent')"
        :options="[
          { value: '', label: $t('rules.onLatestEventThatFits') },
          { value: 'made', label: $t('rules.onMadeUpEvent') },
          ...(samples.data.value?.items ?? []).map((e) => ({ value: e.id, label: named(e) })),
        ]"
      />
      <Button
        size="small"
        :label="$t('rules.tryIt')"
        :loading="trial.isPending.value"
        @click="trial.mutate(false)"
      />
      <Button
        size="small"
        variant="outlined"
        :label="$t('rules.sendToTestRecipient')"
        :disabled="!recipient.data.value?.address"
        @click="trial.mutate(true)"
      />
      <label class="faint"
        >{{ $t('rules.testRecipientWord') }}
        <TextField
          :model-value="recipient.data.value?.address"
          lazy
          hidden
          :label="$t('rules.testRecipient')"
          :placeholder="$t('rules.eMailAddress')"
          @update:model-value="(address) => setRecipient.mutate(address ?? '')"
      /></label>
    </div>
    <Oops :error="trial.error.value ?? setRecipient.error.value" />
    <template v-if="trial.data.value">
      <p>
        <i18n-t keypath="rules.onCondition" scope="global"
          ><template #eventId>{{
            trial.data.value.eventId ? $t('rules.realEvent') : $t('rules.madeUpEvent')
          }}</template
          ><template #more
            ><template v-if="trial.data.value.person"
              >{{ ' ' }}{{ $t('rules.about', { person: trial.data.value.person }) }}</template
            ></template
          ><template #condition
            ><b>{{ trial.data.value.condition }}</b></template
          ><template #more2
            ><template v-if="trial.data.value.stops">{{
              $t('rules.stopCondition', { stops: trial.data.value.stops })
            }}</template></template
          ><template #passed
            ><b :class="trial.data.value.passed ? 'calm' : 'urgent'">{{
              trial.data.value.passed ? $t('rules.trialWasPassed') : $t('rules.trialWasNotPassed')
            }}</b></template
          >
          <template #nothingWasSent
            ><template v-if="trial.variables.value && !trial.data.value.sentTo"
              >{{ ' ' }}{{ $t('rules.nothingWasSent') }}</template
            ></template
          ></i18n-t
        >
      </p>
      <article v-for="(s, i) in trial.data.value.steps" :key="i">
        <div>
          {{ i + 1 }}. {{ doing(s.kind) }}
          <span class="faint"
            ><template v-if="s.interface">{{ $t('rules.through', { interface: s.interface }) }}</template
            ><template v-if="s.after">{{ $t('rules.commaAfter', { after: s.after }) }}</template
            ><template v-if="s.if">{{ $t('rules.itsCondition', { if: s.if }) }}</template></span
          >
        </div>
        <dl>
          <template v-for="(v, name) in s.shown" :key="name">
            <template v-if="v !== ''">
              <dt>{{ name }}</dt>
              <dd>{{ plain(v) }}</dd>
            </template>
          </template>
        </dl>
        <p v-if="s.problem" class="urgent">▲ {{ s.problem }}</p>
        <p v-if="s.checked === 'exists'" class="calm">{{ $t('rules.whatItNeedsExistsAt') }}</p>
        <p v-else-if="s.checked" class="urgent">▲ {{ s.checked }}</p>
        <p v-if="s.sent">{{ $t('rules.sentToMarkedAsTest', { sentTo: trial.data.value.sentTo }) }}</p>
      </article>
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
  align-items: center;
}

/* what comes into it later must not move what stands beside it */
.bar > :first-child {
  width: 24rem;
}

.bar label {
  display: flex;
  gap: 0.5rem;
  align-items: center;
  margin-inline-start: auto;
}

article {
  border-top: 1px solid var(--hair);
  padding: 0.4rem 0;
}

dl {
  display: grid;
  grid-template-columns: 7rem 1fr;
  margin: 0.2rem 0 0 1rem;
}

dt {
  color: var(--faint);
}

dd {
  margin: 0;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}

p {
  margin: 0.3rem 0;
}

.urgent {
  color: var(--signal);
}

.calm {
  color: var(--calm);
}
</style>
