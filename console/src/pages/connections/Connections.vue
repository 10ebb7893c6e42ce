<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, ok, type Schemas } from '../../api/client'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import Signal from '../../parts/Signal.vue'
import { when } from '../../parts/when'
import { word } from '../../parts/words'
import { mayAll } from '../../shell/may'
import { resting, worst } from './interface'
import JoinDialog from './JoinDialog.vue'

type Connection = Schemas['Connection']

/** The outside systems, one row each, with what works of their interfaces. */
const router = useRouter()
const queries = useQueryClient()
const list = useQuery({ queryKey: ['connections'], queryFn: () => ok(api.GET('/api/v1/connections')) })
const rows = computed(() => list.data.value?.items)
const removed = useQuery({
  queryKey: ['connections', 'removed'],
  queryFn: () => ok(api.GET('/api/v1/connections', { params: { query: { removed: true } } })),
})
const removedInterfaces = useQuery({
  queryKey: ['interfaces', 'removed'],
  queryFn: () => ok(api.GET('/api/v1/interfaces', { params: { query: { removed: true } } })),
})
/** Interfaces that were removed alone: the others come back with their connection. */
const alone = computed(() => {
  const whole = new Set(removed.data.value?.items.map((c) => c.id))
  return (removedInterfaces.data.value?.items ?? []).filter((i) => !whole.has(i.connectionId))
})
const restore = useMutation({
  mutationFn: (c: Connection) =>
    ok(api.POST('/api/v1/connections/{id}/restore', { params: { path: { id: c.id } }, body: {} })),
  onSuccess: () => queries.invalidateQueries(),
})
const restoreOne = useMutation({
  mutationFn: (i: Schemas['Interface']) =>
    ok(api.POST('/api/v1/interfaces/{id}/restore', { params: { path: { id: i.id } }, body: {} })),
  onSuccess: () => queries.invalidateQueries(),
})
const joining = ref(false)
const host = (address: string) => address.replace(/^https?:\/\//, '').replace(/\/$/, '')
</script>

<template>
  <PageHead :title="$t('connections.connections')" :about="$t('connections.oneConnectionServesEveryCourse')">
    <Button
      v-if="mayAll('connect')"
      size="small"
      variant="outlined"
      :label="$t('connections.letPlatformJoin')"
      @click="joining = true"
    />
    <Button size="small" :label="$t('connections.connectSystem')" @click="router.push('/connections/new')" />
  </PageHead>
  <Oops :error="list.error.value" :again="list.refetch" />
  <Oops :error="restore.error.value ?? restoreOne.error.value" />
  <p v-if="rows && !rows.length" class="sheet empty faint">
    {{ $t('connections.nothingIsConnectedYetStart') }}
  </p>
  <article v-for="c in rows" :key="c.id" class="sheet">
    <div>
      <h2>
        <RouterLink :to="`/connections/${c.id}`">{{ c.name }}</RouterLink>
      </h2>
      <p class="faint">
        {{ c.owner }}<template v-if="c.owner && c.address"> · </template
        ><a v-if="c.address" :href="c.address" target="_blank" rel="noopener">{{ host(c.address) }}</a>
      </p>
      <p v-if="c.paused"><Signal state="paused" /></p>
    </div>
    <div>
      <p v-if="!c.interfaces.length" class="faint">
        <i18n-t keypath="connections.noInterfaceYetToSpeak" scope="global"
          ><template #addOne
            ><RouterLink :to="`/connections/${c.id}`">{{ $t('connections.addOne') }}</RouterLink></template
          ></i18n-t
        >
      </p>
      <div v-for="i in c.interfaces" :key="i.id" class="interface">
        <span>{{ i.label || i.title }}</span>
        <Signal :state="i.paused && !c.paused ? 'paused' : worst(i)" />
        <span class="faint">
          <template v-if="resting(i).length"
            ><b>{{
              $t('connections.restsUntil', {
                operation: resting(i)[0]?.operation || $t('connections.service'),
                until: when(resting(i)[0]?.until),
              })
            }}</b
            >;
            <RouterLink :to="`/deliveries?interface=${i.id}`">{{
              $t(
                'connections.deliveryWaits',
                { waiting: resting(i)[0]?.waiting },
                resting(i)[0]?.waiting ?? 0,
              )
            }}</RouterLink></template
          >
          <template v-else-if="i.lastRead"
            >{{ $t('connections.lastRead') }}
            <RouterLink :to="`/runs/${i.lastRead.id}`"
              >{{ word(i.lastRead.state) }},
              {{ when(i.lastRead.finishedAt ?? i.lastRead.createdAt) }}</RouterLink
            ></template
          >
          <template v-else-if="!i.checklist.live">{{
            $t('connections.next', { title: i.checklist.steps.find((s) => !s.done)?.title })
          }}</template>
        </span>
      </div>
    </div>
  </article>
  <section v-if="removed.data.value?.items.length || alone.length" class="removed">
    <h2>{{ $t('connections.removed') }}</h2>
    <p v-for="c in removed.data.value?.items" :key="c.id" class="faint">
      {{ c.name }}, {{ when(c.removedAt) }}
      <Button size="small" variant="text" :label="$t('connections.restore')" @click="restore.mutate(c)" />
    </p>
    <p v-for="i in alone" :key="i.id" class="faint">
      {{ i.name }} ({{ i.title }}), {{ when(i.removedAt) }}
      <Button size="small" variant="text" :label="$t('connections.restore')" @click="restoreOne.mutate(i)" />
    </p>
  </section>
  <JoinDialog v-if="joining" @close="joining = false" />
</template>

<style scoped>
.removed {
  margin-top: 1.5rem;
}

article {
  display: grid;
  grid-template-columns: 17rem minmax(0, 1fr);
  gap: 1.5rem;
  padding: 0.6rem 1rem;
  margin-bottom: 0.5rem;
}

h2 {
  font: 400 1.05rem/1.2 var(--serif);
  margin: 0 0 0.2rem;
}

p {
  margin: 0;
  overflow-wrap: anywhere;
}

.empty {
  padding: 1.4rem;
}

.interface {
  display: grid;
  grid-template-columns: 15rem 10rem 1fr;
  gap: 0.8rem;
  align-items: baseline;
  padding: 0.15rem 0;
}

@media (max-width: 1000px) {
  article,
  .interface {
    grid-template-columns: minmax(0, 1fr);
    gap: 0.2rem 1rem;
  }
}
</style>
