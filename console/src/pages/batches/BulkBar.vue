<script setup lang="ts">
import { useMutation } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Toolbar from 'primevue/toolbar'
import { computed, defineAsyncComponent, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, ok, type Schemas } from '../../api/client'
import { letGo } from '../../parts/form/typed'
import Oops from '../../parts/Oops.vue'
import { mayAll } from '../../shell/may'
import { useServices } from '../connections/interface'
import { acts } from './acts'

// Loaded when somebody asks for it.
const BulkDialog = defineAsyncComponent(() => import('./BulkDialog.vue'))

/** What can be done with the sections that are chosen; it is shown before it is done. */
const props = defineProps<{ chosen: Schemas['Section'][] }>()
const emit = defineEmits<{ clear: []; link: [] }>()
const router = useRouter()

const paired = computed(() => props.chosen.filter((x) => x.pairingId))
const free = computed(() => props.chosen.filter((x) => !x.pairingId))
const services = useServices()
// A button for each service, while they are few: then it needs no choosing.
const at = computed(() => {
  const all = services.value ?? []
  return all.length > 1 && all.length <= 3 ? all : [{ id: all.length === 1 ? all[0]!.id : '', name: '' }]
})
const service = ref('')
const act = ref<'pair' | 'template' | 'open'>()

const look = useMutation({
  mutationFn: (order: Schemas['Order']) => ok(api.POST('/api/v1/batches', { body: order })),
  onSuccess: (b) => {
    letGo()
    return router.push(`/batches/${b.id}`)
  },
})

function choose(a: Schemas['Order']['act']) {
  look.reset()
  if (a === 'pair' || a === 'template' || a === 'open') act.value = a
  else look.mutate({ act: a, pairings: paired.value.map((x) => x.pairingId!) })
}
</script>

<template>
  <Toolbar
    v-if="chosen.length"
    class="bulk"
    :aria-label="$t('batches.withChosenSections')"
    :pt="{ start: { class: 'bulk-start' } }"
  >
    <template #start>
      <b>{{ $t('batches.chosen', { chosen: chosen.length }) }}</b>
      <template v-if="free.length && mayAll('rosters')">
        <Button
          v-for="s in at"
          :key="s.id"
          unstyled
          type="button"
          @click="((service = s.id), choose('pair'))"
        >
          {{ $t('batches.pair', { free: free.length, name: s.name && $t('batches.at', { name: s.name }) }) }}
        </Button>
      </template>
      <Button v-if="chosen.length > 1" unstyled type="button" @click="emit('link')">{{
        $t('batches.link')
      }}</Button>
      <template v-if="paired.length && mayAll('rosters')">
        <Button v-for="(a, name) in acts" :key="name" unstyled type="button" @click="choose(name)">
          {{ a.short }}
        </Button>
        <Button unstyled type="button" @click="choose('template')">{{ $t('batches.applyTemplate') }}</Button>
      </template>
      <span v-if="look.isPending.value" class="faint">{{ $t('batches.looking') }}</span>
      <Button unstyled type="button" class="clear" @click="emit('clear')">{{ $t('batches.clear') }}</Button>
      <Oops v-if="!act" :error="look.error.value" />
    </template>
  </Toolbar>
  <BulkDialog
    v-if="act"
    :act="act"
    :service="service"
    :free="free"
    :paired="paired"
    :busy="look.isPending.value"
    :error="look.error.value"
    @look="(order) => look.mutate(order)"
    @close="act = undefined"
  />
</template>

<style scoped>
.bulk :deep(.bulk-start) {
  display: flex;
  flex: 1;
  flex-wrap: wrap;
  gap: 0.3rem 1rem;
  align-items: center;
}

.bulk {
  border: 0;
  border-radius: 0;
  background: var(--ink);
  color: var(--sheet);
  padding: 0.45rem 0.9rem;
  margin-bottom: 0.5rem;
  position: sticky;
  top: 77px; /* below the navigation */
  z-index: 4;
}

.bulk button {
  font: inherit;
  font-size: 13px;
  color: inherit;
  border: 0;
  border-bottom: 1px solid currentcolor;
  background: none;
  padding: 0;
  cursor: pointer;
}

.bulk .faint {
  color: inherit;
}

.bulk .clear {
  margin-inline-start: auto;
  border: 0;
}
</style>
