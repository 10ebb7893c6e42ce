<script setup lang="ts">
import { ref } from 'vue'

import { useAddress } from '../../parts/address'
import PageHead from '../../parts/PageHead.vue'
import Browser from './Browser.vue'
import { noFilters } from './sections'

const filters = useAddress().all(noFilters, 'text', 'atLeast', 'atMost')
const total = ref<number>()
</script>

<template>
  <PageHead
    :title="$t('common.sections')"
    :about="total === undefined ? undefined : $t('sections.shown', { total: total.toLocaleString() })"
  >
  </PageHead>
  <Browser v-model="filters" @total="(n) => (total = n)" />
</template>
