<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../../api/client'
import Counts from '../../parts/Counts.vue'
import { when } from '../../parts/when'

const props = defineProps<{ section: Schemas['Section'] }>()
const to = computed(() =>
  props.section.pairingId
    ? `/pairings/${props.section.pairingId}`
    : { path: '/sections', query: { pair: props.section.id } },
)
</script>

<template>
  <RouterLink class="card sheet" :to="to">
    <span class="title">{{ section.title }}</span>
    <span class="faint line">
      <template v-if="section.course !== section.title">{{ section.course }} · </template
      >{{ section.terms.join(', ') }} · {{ section.learners }} learners
    </span>
    <span v-if="section.target" class="line"
      >→ {{ section.target }} <span class="faint">at {{ section.connection }}</span></span
    >
    <Counts v-if="section.pairingId" :counts="section.counts" />
    <span v-if="section.ranAt" class="faint line">last run {{ when(section.ranAt) }}</span>
    <span v-if="!section.pairingId" class="line next">{{ section.teachers.join(', ') }}</span>
  </RouterLink>
</template>

<style scoped>
.card {
  display: block;
  text-decoration: none;
  padding: 0.6rem 0.75rem;
  margin-top: 0.5rem;
}

.card:hover {
  border-color: var(--ink);
}

.title {
  font: 400 1.02rem/1.25 var(--serif);
  display: block;
}

.line {
  display: block;
  font-size: 12px;
}
</style>
