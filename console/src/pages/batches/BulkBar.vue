<script setup lang="ts">
import { useMutation } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, defineAsyncComponent, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, ok, type Schemas } from '../../api/client'
import { letGo } from '../../parts/form/typed'
import Oops from '../../parts/Oops.vue'
import { acts } from './acts'

// Loaded when somebody asks for it.
const BulkDialog = defineAsyncComponent(() => import('./BulkDialog.vue'))

/** What can be done with the sections that are chosen; it is shown before it is done. */
const props = defineProps<{ chosen: Schemas['Section'][] }>()
const emit = defineEmits<{ clear: []; link: [] }>()
const router = useRouter()

const paired = computed(() => props.chosen.filter((x) => x.pairingId))
const free = computed(() => props.chosen.filter((x) => !x.pairingId))
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
  <div v-if="chosen.length" class="bulk" role="toolbar" aria-label="With the chosen sections">
    <b>{{ chosen.length }} chosen</b>
    <Button v-if="free.length" unstyled type="button" @click="choose('pair')">Pair {{ free.length }}…</Button>
    <Button v-if="chosen.length > 1" unstyled type="button" @click="emit('link')">Link…</Button>
    <template v-if="paired.length">
      <Button v-for="(a, name) in acts" :key="name" unstyled type="button" @click="choose(name)">
        {{ a.short }}
      </Button>
      <Button unstyled type="button" @click="choose('template')">Apply a template…</Button>
    </template>
    <span v-if="look.isPending.value" class="faint">looking…</span>
    <Button unstyled type="button" class="clear" @click="emit('clear')">clear</Button>
    <Oops v-if="!act" :error="look.error.value" />
  </div>
  <BulkDialog
    v-if="act"
    :act="act"
    :free="free"
    :paired="paired"
    :busy="look.isPending.value"
    :error="look.error.value"
    @look="(order) => look.mutate(order)"
    @close="act = undefined"
  />
</template>

<style scoped>
.bulk {
  display: flex;
  flex-wrap: wrap;
  gap: 0.3rem 1rem;
  align-items: center;
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
  margin-left: auto;
  border: 0;
}
</style>
