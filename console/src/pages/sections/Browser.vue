<script setup lang="ts">
import { defineAsyncComponent, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, ok } from '../../api/client'
import { useAddress } from '../../parts/address'
import BulkBar from '../batches/BulkBar.vue'
import FilterBar from './FilterBar.vue'
import { useChosen, useSections, type Filters, type Section, type Sort } from './sections'

// Loaded when somebody asks for them.
const SectionTable = defineAsyncComponent(() => import('./SectionTable.vue'))
const LinkDialog = defineAsyncComponent(() => import('./LinkDialog.vue'))
const PairDialog = defineAsyncComponent(() => import('./PairDialog.vue'))

/** Finds sections, chooses some and does something with them. The slot may show
 * them in another way than as a table. */
const filters = defineModel<Filters>({ required: true })
const emit = defineEmits<{ total: [n: number | undefined] }>()
const route = useRoute()
const router = useRouter()
const list = useSections(filters, useAddress().kept<Sort>('sort'))
const chosen = useChosen()
const linking = ref(false)
watch(list.total, (n) => emit('total', n), { immediate: true })

// A link to a section opens its dialog.
const pairing = ref<Section | undefined>()
watch(
  () => route.query.pair,
  async (id) => {
    if (!id) return
    const called = await ok(
      api.GET('/api/v1/sections', { params: { query: { called: String(id), hidden: '*' } } }),
    )
    pairing.value = called.items.find((x) => x.id === id)
  },
  { immediate: true },
)

function close() {
  pairing.value = undefined
  if (route.query.pair) void router.replace({ query: { ...route.query, pair: undefined } })
}

function open(x: Section) {
  if (x.pairingId) void router.push(`/pairings/${x.pairingId}`)
  else if (x.state) pairing.value = x
}

async function chooseAll(state: Filters['state']) {
  chosen.toggleAll(await list.everything(state))
}

async function all() {
  if (chosen.list.value.length) chosen.clear()
  else chosen.take(await list.everything())
}
</script>

<template>
  <FilterBar v-model="filters" :choices="list.choices.value" :left="list.left.value" />
  <BulkBar :chosen="chosen.list.value" @clear="chosen.clear()" @link="linking = true" />
  <slot :chosen="chosen" :open="open" :choose-all="chooseAll">
    <SectionTable
      :rows="list.rows.value"
      :loading="list.loading.value"
      :error="list.error.value"
      :again="list.again"
      :has="chosen.has"
      :chosen="chosen.list.value.length"
      @see="list.load"
      @open="open"
      @pair="(x) => (pairing = x)"
      @toggle="chosen.toggle"
      @all="all"
    />
  </slot>
  <PairDialog v-if="pairing" :section="pairing" @close="close" />
  <LinkDialog v-if="linking" :chosen="chosen.list.value" @close="linking = false" @linked="chosen.clear()" />
</template>
