<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, ifMatch, ok } from '../../api/client'
import Checklist from '../../parts/Checklist.vue'
import { ask } from '../../parts/form/ask'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import Signal from '../../parts/Signal.vue'
import { actions, happening } from '../../parts/triggers'
import { when } from '../../parts/when'
import { $t } from '../../texts'
import { useFlip } from './flip'
import LookBack from './LookBack.vue'
import RuleForm from './RuleForm.vue'
import SwitchOff from './SwitchOff.vue'
import SwitchOn from './SwitchOn.vue'
import Trial from './Trial.vue'
import Unsubscribed from './Unsubscribed.vue'

/** One rule: what it says, what of it is done, trying it out, looking back. */
const props = defineProps<{ id: string }>()
const router = useRouter()
const queries = useQueryClient()
const at = computed(() => ({ params: { path: { id: props.id } } }))
const rule = useQuery({
  queryKey: ['rules', () => props.id],
  queryFn: () => ok(api.GET('/api/v1/rules/{id}', at.value)),
})
const checklist = useQuery({
  queryKey: ['rules', () => props.id, 'checklist'],
  queryFn: () => ok(api.GET('/api/v1/rules/{id}/checklist', at.value)),
})
const versions = useQuery({
  queryKey: ['rules', () => props.id, 'versions'],
  queryFn: () => ok(api.GET('/api/v1/rules/{id}/versions', at.value)),
})
const r = computed(() => rule.data.value)
const editing = ref(false)
const { flip, asking, leave } = useFlip()
const remove = useMutation({
  mutationFn: () =>
    ok(
      api.DELETE('/api/v1/rules/{id}', {
        params: { path: { id: props.id }, header: ifMatch(r.value!.version) },
      }),
    ),
  onSuccess: async () => {
    await router.push('/rules')
    await queries.invalidateQueries({ queryKey: ['rules'] })
  },
})

async function removing() {
  const yes = await ask({
    title: $t('rules.removeName', { name: r.value!.name }),
    text: $t('rules.itHasMadeNoDelivery'),
    yes: $t('rules.removeIt'),
    no: $t('rules.keepIt'),
  })
  if (yes) remove.mutate()
}
</script>

<template>
  <Oops :error="rule.error.value ?? remove.error.value ?? (asking ? null : flip.error.value)" />
  <SwitchOn
    v-if="asking?.consent"
    :rule="asking.rule"
    :message="asking.message"
    @close="leave"
    @choose="flip.mutate(asking!)"
  />
  <SwitchOff
    v-else-if="asking"
    :name="asking.rule.name"
    :message="asking.message"
    @close="leave"
    @choose="(toCome) => flip.mutate({ rule: asking!.rule, toCome })"
  />
  <template v-if="r">
    <PageHead :title="r.name">
      <template #about>
        <Signal :state="r.state" /> {{ $t('rules.when', { trigger: happening(r.trigger) }) }}
        <code>{{ r.trigger }}</code><template v-if="r.days"
          >{{ ' ' }}{{ $t('rules.forDays', { days: r.days }) }}</template
        ><template v-if="r.where">{{ ' ' }}{{ $t('rules.in', { where: r.where }) }}</template
        ><template v-if="r.condition"
          >{{ ' ' }}{{ $t('rules.if') }} <code>{{ r.condition }}</code></template
        >
        · {{ r.oncePerPerson ? $t('rules.oncePerPersonAndTarget') : $t('rules.everyTime') }}
      </template>
      <RouterLink :to="`/deliveries?rule=${r.id}`">{{ $t('common.deliveries') }}</RouterLink>
      <Button size="small" variant="outlined" :label="$t('common.edit')" @click="editing = true" />
      <Button
        v-if="!r.on && !r.fired"
        size="small"
        variant="text"
        :label="$t('rules.remove')"
        :loading="remove.isPending.value"
        @click="removing"
      />
      <Button
        size="small"
        :label="r.on ? $t('rules.switchOff') : $t('rules.switchOn')"
        @click="flip.mutate({ rule: r })"
      />
    </PageHead>
    <div class="two">
      <section class="sheet">
        <h2>{{ $t('rules.then') }}</h2>
        <ol>
          <li v-for="(a, i) in r.actions" :key="i">
            {{ a.after ? $t('rules.afterAfter', { after: a.after }) : '' }}{{ actions[a.kind] }}
            <span class="faint">{{ a.subject || a.operation || a.sheet || a.group }}</span>
            <template v-if="a.if"
              >{{ ' ' }}{{ $t('rules.onlyIf') }} <code>{{ a.if }}</code></template
            >
          </li>
        </ol>
        <p v-if="r.stop">
          {{ $t('rules.stopsIf') }} <code>{{ r.stop }}</code>
        </p>
        <p v-if="r.undoneBy?.length">{{ $t('rules.revertedBy', { undoneBy: r.undoneBy.join(', ') }) }}</p>
        <p v-if="r.counts">{{ $t('rules.ofSeveralResultsOfOne', { counts: r.counts }) }}</p>
        <p v-if="r.quietHours?.from">
          {{ $t('rules.quietFromUntil', { from: r.quietHours.from, to: r.quietHours.to }) }}
        </p>
        <p v-if="r.limit?.most">
          {{ $t('rules.ofCallsUsedThis', { calls: r.calls, most: r.limit.most, per: r.limit.per }) }}
        </p>
        <p class="faint">
          {{ $t('rules.firedOnceDelivered', { fired: r.fired, delivered: r.delivered }, r.fired) }}
          <span :class="{ urgent: r.waiting }">{{ $t('rules.waiting', { waiting: r.waiting }) }}</span>
          <template v-if="r.unsubscribed">{{
            $t('rules.unsubscribedFromItsMails', { unsubscribed: r.unsubscribed })
          }}</template>
        </p>
      </section>
      <section class="sheet">
        <h2>{{ $t('rules.whatIsDone') }}</h2>
        <Checklist v-if="checklist.data.value" :list="checklist.data.value" open />
        <h2>{{ $t('rules.versions') }}</h2>
        <p v-for="v in versions.data.value?.slice(0, 4)" :key="v.version" class="faint">
          {{ $t('rules.by', { version: v.version, at: when(v.at), who: v.who }) }}
        </p>
      </section>
    </div>
    <Trial :id="r.id" />
    <LookBack :id="r.id" :on="r.on" />
    <Unsubscribed v-if="r.unsubscribed" :id="r.id" />
    <RuleForm v-if="editing" :edit="r" @close="editing = false" />
  </template>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 1rem;
  margin-bottom: 1rem;
}

section {
  padding: 0 1rem 0.8rem;
}

h2 {
  margin-top: 0.8rem;
}

ol {
  margin: 0;
  padding-inline-start: 1.2rem;
}

p {
  margin: 0.3rem 0 0;
}

.urgent {
  color: var(--signal);
  font-weight: 600;
}
</style>
