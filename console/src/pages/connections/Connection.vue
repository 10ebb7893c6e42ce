<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, ref } from 'vue'

import { api, ifMatch, ok, type Schemas } from '../../api/client'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import Signal from '../../parts/Signal.vue'
import { $t } from '../../texts'
import Interface from './Interface.vue'
import InterfaceForm from './InterfaceForm.vue'
import RemoveDialog from './RemoveDialog.vue'
import SystemForm from './SystemForm.vue'

/** An outside system: what holds for all of it, and each of its interfaces. */
const props = defineProps<{ id: string }>()
const queries = useQueryClient()
const path = computed(() => ({ params: { path: { id: props.id } } }))
const one = useQuery({
  queryKey: ['connections', () => props.id],
  queryFn: () => ok(api.GET('/api/v1/connections/{id}', path.value)),
})
const c = computed(() => one.data.value)
const refresh = () => queries.invalidateQueries({ queryKey: ['connections'] })
const pause = useMutation({
  mutationFn: (c: Schemas['Connection']) =>
    ok(
      api.PATCH('/api/v1/connections/{id}', {
        params: { path: { id: c.id }, header: ifMatch(c.version) },
        body: { paused: !c.paused },
      }),
    ),
  onSettled: refresh,
})
const test = useMutation({
  mutationFn: (c: Schemas['Connection']) =>
    Promise.all(
      c.interfaces.map((i) =>
        ok(api.POST('/api/v1/interfaces/{id}/probe', { params: { path: { id: i.id } } })),
      ),
    ),
  onSettled: refresh,
})
const editing = ref(false)
const adding = ref(false)
const removing = ref(false)
const limits = computed(() =>
  [
    c.value?.atOnce && $t('connections.callsAtOnce', { atOnce: c.value.atOnce }),
    c.value?.perMinute && $t('connections.callsMinute', { perMinute: c.value.perMinute }),
    c.value?.restAfter && $t('connections.restsAfterFailuresInRow', { restAfter: c.value.restAfter }),
  ].filter(Boolean),
)
</script>

<template>
  <Oops :error="one.error.value" :again="one.refetch" />
  <template v-if="c">
    <PageHead :title="c.name">
      <template #about>
        <RouterLink to="/connections">{{ $t('connections.connections') }}</RouterLink>
        <template v-if="c.owner">{{ ' ' }}{{ $t('connections.mindedBy', { owner: c.owner }) }}</template>
        <template v-if="c.address">
          · <a :href="c.address" target="_blank" rel="noopener">{{ c.address }}</a></template
        >
        <template v-if="limits.length"> · {{ limits.join(', ') }}</template>
      </template>
      <Button size="small" :label="$t('connections.addInterface')" @click="adding = true" />
      <Button
        v-if="c.interfaces.length"
        size="small"
        variant="outlined"
        :label="$t('connections.testAll')"
        :loading="test.isPending.value"
        @click="test.mutate(c)"
      />
      <Button size="small" variant="text" :label="$t('common.edit')" @click="editing = true" />
      <Button
        size="small"
        variant="text"
        :label="c.paused ? $t('common.resume') : $t('common.pause')"
        @click="pause.mutate(c)"
      />
      <Button size="small" variant="text" :label="$t('connections.remove')" @click="removing = true" />
    </PageHead>
    <Oops :error="pause.error.value ?? test.error.value" />
    <p v-if="c.paused">
      <Signal state="paused" /> <span class="faint">{{ $t('connections.whatDependsOnAnyInterface') }}</span>
    </p>
    <p v-if="c.notes" class="notes">{{ c.notes }}</p>
    <p v-if="!c.interfaces.length" class="sheet empty faint">{{ $t('connections.noInterfaceYetAddWhat') }}</p>
    <Interface v-for="i in c.interfaces" :key="i.id" :one="i" :connection="c" />
    <InterfaceForm v-if="adding" :connection="c" @close="adding = false" />
    <SystemForm v-if="editing" :connection="c" @close="editing = false" />
    <RemoveDialog v-if="removing" :id="c.id" of="connections" :name="c.name" @close="removing = false" />
  </template>
</template>

<style scoped>
.notes {
  white-space: pre-wrap;
  margin: 0 0 0.8rem;
}

.empty {
  padding: 1.4rem;
}
</style>
