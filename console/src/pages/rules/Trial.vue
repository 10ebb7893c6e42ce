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
  <section class="sheet" aria-label="Try it out">
    <h2>Try it out <span class="faint">nobody is reached</span></h2>
    <div class="bar">
      <ChoiceField
        v-model="event"
        hidden
        label="On which event"
        :options="[
          { value: '', label: 'on the latest event that fits' },
          { value: 'made', label: 'on a made-up event' },
          ...(samples.data.value?.items ?? []).map((e) => ({ value: e.id, label: named(e) })),
        ]"
      />
      <Button size="small" label="Try it" :loading="trial.isPending.value" @click="trial.mutate(false)" />
      <Button
        size="small"
        variant="outlined"
        label="Send to the test recipient"
        :disabled="!recipient.data.value?.address"
        @click="trial.mutate(true)"
      />
      <label class="faint"
        >test recipient
        <TextField
          :model-value="recipient.data.value?.address"
          lazy
          hidden
          label="Test recipient"
          placeholder="an e-mail address"
          @update:model-value="(address) => setRecipient.mutate(address ?? '')"
      /></label>
    </div>
    <Oops :error="trial.error.value ?? setRecipient.error.value" />
    <template v-if="trial.data.value">
      <p>
        On {{ trial.data.value.eventId ? 'a real event' : 'a made-up event'
        }}<template v-if="trial.data.value.person"> about {{ trial.data.value.person }}</template
        >: the condition <b>{{ trial.data.value.condition }}</b><template v-if="trial.data.value.stops"
          >, the stop condition {{ trial.data.value.stops }}</template
        >.
        <b :class="trial.data.value.passed ? 'calm' : 'urgent'">{{
          trial.data.value.passed ? '● The trial was passed.' : '▲ The trial was not passed.'
        }}</b>
        <template v-if="trial.variables.value && !trial.data.value.sentTo"> Nothing was sent.</template>
      </p>
      <article v-for="(s, i) in trial.data.value.steps" :key="i">
        <div>
          {{ i + 1 }}. {{ doing(s.kind) }}
          <span class="faint"
            ><template v-if="s.interface">through {{ s.interface }}</template
            ><template v-if="s.after">, after {{ s.after }}</template
            ><template v-if="s.if">, its condition {{ s.if }}</template></span
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
        <p v-if="s.checked === 'exists'" class="calm">● what it needs exists at the service</p>
        <p v-else-if="s.checked" class="urgent">▲ {{ s.checked }}</p>
        <p v-if="s.sent">● sent to {{ trial.data.value.sentTo }}, marked as a test</p>
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
