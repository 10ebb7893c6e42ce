<script setup lang="ts">
import { ref } from 'vue'
import { useRoute } from 'vue-router'

import PageHead from '../../parts/PageHead.vue'
import Browser from './Browser.vue'
import { noFilters, type Filters } from './sections'

const route = useRoute()
const filters = ref<Filters>({
  ...noFilters(),
  state: String(route.query.state ?? '') as Filters['state'],
  hidden: route.query.pair ? '*' : '',
})
const total = ref<number>()
</script>

<template>
  <PageHead
    title="Sections"
    :about="total === undefined ? undefined : `${total.toLocaleString('en-GB')} shown`"
  >
    <RouterLink to="/sections/linked">Linked sets</RouterLink>
    <RouterLink to="/sections/lists">People lists</RouterLink>
    <RouterLink to="/next-term">Next term</RouterLink>
    <RouterLink to="/batches">Done with many</RouterLink>
  </PageHead>
  <Browser v-model="filters" @total="(n) => (total = n)" />
</template>
