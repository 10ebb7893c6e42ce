<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'

import { api, ok } from '../../api/client'
import { exactly } from '../../parts/when'

/** Every try of one delivery; fetched when opened. */
const props = defineProps<{ deliveryId: string; attempts: number }>()
const open = ref(false)
const list = useQuery({
  queryKey: ['deliveries', () => props.deliveryId, 'attempts', () => props.attempts],
  queryFn: () =>
    ok(api.GET('/api/v1/deliveries/{id}/attempts', { params: { path: { id: props.deliveryId } } })),
  enabled: computed(() => open.value),
})
</script>

<template>
  <details v-if="attempts" @toggle="open = ($event.target as HTMLDetailsElement).open">
    <summary class="faint">{{ $t('events.attempt', { attempts }, attempts) }}</summary>
    <div v-for="a in list.data.value" :key="a.number" class="attempt">
      <span>{{
        $t('events.ms', {
          number: a.number,
          startedAt: exactly(a.startedAt),
          millis: a.millis,
          status: a.status ? $t('events.answer', { status: a.status }) : a.error ? $t('events.noAnswer') : '',
        })
      }}</span>
      <pre v-if="a.request">{{ a.request }}</pre>
      <pre v-if="a.error || a.answer" :class="{ bad: a.error }">{{ a.error || a.answer }}</pre>
    </div>
  </details>
</template>

<style scoped>
summary {
  cursor: pointer;
  font-size: 12.5px;
}

.attempt {
  padding: 0.3rem 0 0.3rem 1rem;
}

pre {
  margin: 0.2rem 0;
  padding: 0.4rem 0.6rem;
  background: var(--paper);
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}

.bad {
  color: var(--signal);
}
</style>
