<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed } from 'vue'

import { api, ok } from '../../api/client'
import Oops from '../../parts/Oops.vue'
import Outside from '../../parts/Outside.vue'
import Signal from '../../parts/Signal.vue'
import { doing } from '../../parts/triggers'
import { exactly } from '../../parts/when'
import { deliveryState } from '../../parts/words'
import Attempts from './Attempts.vue'

/** What followed from one event: each delivery with its attempts. */
const props = defineProps<{ eventId: string }>()
const emit = defineEmits<{ close: [] }>()
const queries = useQueryClient()
const list = useQuery({
  queryKey: ['deliveries', () => props.eventId],
  queryFn: () => ok(api.GET('/api/v1/deliveries', { params: { query: { event: props.eventId } } })),
})
const rows = computed(() => [...(list.data.value?.items ?? [])].reverse())
const retry = useMutation({
  mutationFn: (id: string) => ok(api.POST('/api/v1/deliveries/{id}/retry', { params: { path: { id } } })),
  onSuccess: () => queries.invalidateQueries({ queryKey: ['deliveries'] }),
})
</script>

<template>
  <section class="sheet" :aria-label="$t('events.whatFollowed')">
    <div class="top">
      <h2>{{ $t('events.whatFollowedFromThisEvent') }}</h2>
      <Button size="small" variant="text" :label="$t('common.close')" @click="emit('close')" />
    </div>
    <Oops :error="list.error.value ?? retry.error.value" />
    <p v-if="list.data.value && !rows.length" class="faint">{{ $t('events.noRuleMatchedIt') }}</p>
    <article v-for="d in rows" :key="d.id">
      <div class="line">
        <Signal :state="deliveryState(d)" />
        <span>{{ d.rule }}</span>
        <span
          >{{ doing(d.action)
          }}<template v-if="d.interface"
            >{{ ' ' }}{{ $t('events.through') }} <Outside :to="d.page" :text="d.interface" /></template
        ></span>
        <span>{{ d.person }}</span>
        <span class="faint">{{
          d.state === 'retrying'
            ? $t('events.againAt', { nextAt: exactly(d.nextAt) })
            : d.finishedAt
              ? exactly(d.finishedAt)
              : d.dueAt
                ? $t('events.at', { dueAt: exactly(d.dueAt) })
                : ''
        }}</span>
        <Button
          v-if="d.state === 'waiting' || d.state === 'retrying'"
          size="small"
          :label="$t('events.tryAgainNow')"
          @click="retry.mutate(d.id)"
        />
      </div>
      <p v-if="d.held || d.undoes" class="faint">
        {{ d.held }}<template v-if="d.undoes">{{ ' ' }}{{ $t('events.revertsEarlierDelivery') }}</template>
      </p>
      <p v-if="d.error" class="urgent">{{ d.error }}</p>
      <p v-if="d.result?.address">
        <a :href="String(d.result.address)" target="_blank" rel="noopener">{{
          $t('events.badgesPublicPage')
        }}</a>
      </p>
      <Attempts :delivery-id="d.id" :attempts="d.attempts" />
    </article>
  </section>
</template>

<style scoped>
section {
  padding: 0.2rem 1rem 0.8rem;
  margin-bottom: 1rem;
  border-inline-start: 3px solid var(--ink);
}

.top {
  display: flex;
  justify-content: space-between;
  align-items: center;
}

h2 {
  margin: 0.5rem 0;
}

article {
  border-top: 1px solid var(--hair);
  padding: 0.5rem 0;
}

.line {
  display: grid;
  grid-template-columns: 8rem 12rem 1fr 10rem 10rem auto;
  gap: 0.8rem;
  align-items: center;
}

p {
  margin: 0.2rem 0 0;
}

.urgent {
  color: var(--signal);
}
</style>
