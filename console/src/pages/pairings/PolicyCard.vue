<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import WhenField from '../../parts/form/WhenField.vue'
import Oops from '../../parts/Oops.vue'
import { when } from '../../parts/when'
import EndDialog from './EndDialog.vue'
import { notices } from './notices'
import PolicyForm from './PolicyForm.vue'

/** What a pairing wants, and what can be changed about it. */
const props = defineProps<{ pairing: Schemas['Pairing']; notice?: Schemas['Preview']['notice'] }>()
const queries = useQueryClient()
const p = computed(() => props.pairing)
const path = computed(() => ({ params: { path: { id: props.pairing.id } } }))
const editing = ref(false)
const ending = ref(false)
const holding = ref(false)
const at = ref('')
const open = useMutation({
  mutationFn: (yes: boolean) =>
    yes
      ? ok(
          api.POST('/api/v1/pairings/{id}/open', {
            ...path.value,
            body: at.value ? { at: new Date(at.value).toISOString() } : {},
          }),
        )
      : ok(api.POST('/api/v1/pairings/{id}/hold', path.value)),
  onSuccess: () =>
    Promise.all(['pairing', 'preview'].map((k) => queries.invalidateQueries({ queryKey: [k] }))),
})
const outlook = useQuery({
  queryKey: ['pairing', () => props.pairing.id, 'opening'],
  queryFn: () => ok(api.GET('/api/v1/pairings/{id}/opening', path.value)),
  enabled: computed(() => p.value.policy.hold),
})
const cancel = useMutation({
  mutationFn: () => ok(api.DELETE('/api/v1/pairings/{id}/opening', path.value)),
  onSuccess: () => queries.invalidateQueries({ queryKey: ['pairing'] }),
})
function hold() {
  open.mutate(false)
  holding.value = false
}
const runs = computed(() => {
  const s = p.value.policy.schedule
  const next = p.value.nextRun ? `, next ${when(p.value.nextRun)}` : ''
  if (s?.kind === 'after-read') return 'after each read that changed it'
  if (s?.kind === 'every') return `every ${s.minutes} minutes${next}`
  if (s?.kind === 'daily') return `${s.days?.length ? s.days.join(', ') : 'daily'} at ${s.at}${next}`
  return 'never'
})
const newcomers = computed(() => {
  if (props.notice === 'unknown') return 'are notified as the service likes'
  return p.value.policy.notify ? 'are notified by the service' : 'are not notified'
})
</script>

<template>
  <section>
    <h2>
      Policy
      <Button unstyled type="button" class="change" @click="editing = true">change…</Button>
    </h2>
    <dl class="facts">
      <dt>Carries</dt>
      <dd>{{ p.policy.roles.join(', ') }}</dd>
      <dt>Leavers</dt>
      <dd>{{ p.policy.leavers }}</dd>
      <dt>Learners</dt>
      <dd>
        {{ p.policy.hold ? 'held until opened' : 'go in at once'
        }}<template v-if="p.opensAt">, opens {{ when(p.opensAt) }}</template>
        <Button v-if="p.policy.hold" unstyled type="button" class="change" @click="open.mutate(true)">
          {{ at ? 'open then' : 'open now' }}
        </Button>
        <Button v-else unstyled type="button" class="change" @click="holding = true">hold</Button>
      </dd>
      <dd v-if="p.policy.hold && outlook.data.value" class="consequence">
        {{ outlook.data.value.learners }} wait<template v-if="outlook.data.value.newAccounts"
          >; {{ outlook.data.value.newAccounts }} get an account,
          {{ notices[outlook.data.value.notice] }}</template
        >
      </dd>
      <dd v-if="p.policy.hold" class="consequence">
        <Button
          v-if="p.opensAt"
          size="small"
          variant="outlined"
          label="Take the time back"
          :loading="cancel.isPending.value"
          @click="cancel.mutate()"
        />
        <label>or at <WhenField v-model="at" of="date-time" hidden label="When the class opens" /></label>
      </dd>
      <dd v-if="holding && !p.policy.hold" class="consequence" role="alert">
        Whoever is in stays in; learners who join from now on wait until it is opened again.
        <Button unstyled type="button" class="change" @click="hold">hold it</Button>
        <Button unstyled type="button" class="change" @click="holding = false">leave it open</Button>
      </dd>
      <dt>Runs by itself</dt>
      <dd>{{ runs }}</dd>
      <dt>Newcomers</dt>
      <dd>{{ newcomers }}</dd>
      <dt>Removals</dt>
      <dd>stop above {{ p.policy.removalNumber }} or {{ Math.round(p.policy.removalShare * 100) }} %</dd>
    </dl>
    <Button unstyled type="button" class="change plain" @click="ending = true">end this pairing…</Button>
    <Oops :error="open.error.value ?? cancel.error.value" />
    <EndDialog v-if="ending" :pairing="p" @close="ending = false" />
    <PolicyForm v-if="editing" :pairing="p" @close="editing = false" />
  </section>
</template>

<style scoped>
.change {
  font: inherit;
  font-weight: 400;
  border: 0;
  background: none;
  color: var(--faint);
  text-decoration: underline;
  cursor: pointer;
}

.consequence {
  grid-column: 1 / -1;
}

.plain {
  padding: 0;
  margin-top: 0.5rem;
  font-size: 13px;
}
</style>
