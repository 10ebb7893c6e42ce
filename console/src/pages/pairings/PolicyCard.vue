<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import WhenField from '../../parts/form/WhenField.vue'
import Oops from '../../parts/Oops.vue'
import { when } from '../../parts/when'
import { may } from '../../shell/may'
import { $t } from '../../texts'
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
  const next = p.value.nextRun ? $t('pairings.next', { nextRun: when(p.value.nextRun) }) : ''
  if (s?.kind === 'after-read') return $t('pairings.afterEachReadThatChanged')
  if (s?.kind === 'every') return $t('pairings.everyMinutes', { minutes: s.minutes, next })
  if (s?.kind === 'daily')
    return $t('pairings.atDays', {
      days: s.days?.length ? s.days.join(', ') : $t('pairings.daily'),
      at: s.at,
      next,
    })
  return $t('common.never')
})
const newcomers = computed(() => {
  if (props.notice === 'unknown') return $t('pairings.areNotifiedAsServiceLikes')
  return p.value.policy.notify ? $t('pairings.areNotifiedByService') : $t('pairings.areNotNotified')
})
</script>

<template>
  <section>
    <h2>
      {{ $t('pairings.policy') }}
      <Button v-if="may('rosters')" unstyled type="button" class="change" @click="editing = true">{{
        $t('pairings.change')
      }}</Button>
    </h2>
    <dl class="facts">
      <dt>{{ $t('pairings.carries') }}</dt>
      <dd>{{ p.policy.roles.join(', ') }}</dd>
      <dt>{{ $t('pairings.leavers') }}</dt>
      <dd>{{ p.policy.leavers }}</dd>
      <dt>{{ $t('pairings.learners') }}</dt>
      <dd>
        {{ p.policy.hold ? $t('pairings.heldUntilOpened') : $t('pairings.goInAtOnce')
        }}<template v-if="p.opensAt">{{ $t('pairings.opens', { opensAt: when(p.opensAt) }) }}</template>
        <Button v-if="p.policy.hold" unstyled type="button" class="change" @click="open.mutate(true)">
          {{ at ? $t('pairings.openThen') : $t('pairings.openNow') }}
        </Button>
        <Button v-else unstyled type="button" class="change" @click="holding = true">{{
          $t('pairings.hold')
        }}</Button>
      </dd>
      <dd v-if="p.policy.hold && outlook.data.value" class="consequence">
        {{ $t('pairings.wait', { learners: outlook.data.value.learners })
        }}<template v-if="outlook.data.value.newAccounts">{{
          $t('pairings.getAccount', {
            newAccounts: outlook.data.value.newAccounts,
            notices: notices[outlook.data.value.notice],
          })
        }}</template>
      </dd>
      <dd v-if="p.policy.hold" class="consequence">
        <Button
          v-if="p.opensAt"
          size="small"
          variant="outlined"
          :label="$t('pairings.takeTimeBack')"
          :loading="cancel.isPending.value"
          @click="cancel.mutate()"
        />
        <label
          >{{ $t('pairings.orAt') }}
          <WhenField v-model="at" of="date-time" hidden :label="$t('pairings.whenClassOpens')"
        /></label>
      </dd>
      <dd v-if="holding && !p.policy.hold" class="consequence" role="alert">
        {{ $t('pairings.whoeverIsInStaysIn') }}
        <Button unstyled type="button" class="change" @click="hold">{{ $t('pairings.holdIt') }}</Button>
        <Button unstyled type="button" class="change" @click="holding = false">{{
          $t('pairings.leaveItOpen')
        }}</Button>
      </dd>
      <dt>{{ $t('common.runsByItself') }}</dt>
      <dd>{{ runs }}</dd>
      <dt>{{ $t('pairings.newcomers') }}</dt>
      <dd>{{ newcomers }}</dd>
      <dt>{{ $t('pairings.removals') }}</dt>
      <dd>
        {{
          $t('pairings.stopAboveOr', {
            removalNumber: p.policy.removalNumber,
            removalShare: Math.round(p.policy.removalShare * 100),
          })
        }}
      </dd>
    </dl>
    <Button v-if="may('rosters')" unstyled type="button" class="change plain" @click="ending = true">{{
      $t('pairings.endThisPairing')
    }}</Button>
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
