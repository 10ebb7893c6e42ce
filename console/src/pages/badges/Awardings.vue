<script setup lang="ts">
import Column from 'primevue/column'
import { computed } from 'vue'

import type { Schemas } from '../../api/client'
import Listing from '../../parts/Listing.vue'
import { listed, word } from '../../parts/words'

/** What becomes of everybody who is to be awarded, those first who cannot be. */
const props = defineProps<{ rows: Schemas['Awarding'][] }>()
const order = ['refused', 'held', 'to-award', 'awarded'] as const
const sorted = computed(() =>
  props.rows
    .map((r, id) => ({ id: String(id), ...r }))
    .sort((a, b) => order.indexOf(a.outcome) - order.indexOf(b.outcome)),
)
const counted = computed(() =>
  listed(
    order.flatMap((o) => {
      const n = props.rows.filter((r) => r.outcome === o).length
      return n ? [`${n} ${word(`award-${o}`, n)}`] : []
    }),
  ),
)
</script>

<template>
  <p role="status">
    <b>{{ counted }}</b>
  </p>
  <div class="rows">
    <Listing :rows="sorted" :loading="false" :error="null" empty="">
      <Column v-if="rows.some((r) => r.line)" field="line" :header="$t('badges.line')" />
      <Column field="person" :header="$t('common.person')" />
      <Column field="badge" :header="$t('badges.badge')" />
      <Column :header="$t('badges.outcome')">
        <template #body="{ data }">
          <span :class="{ bad: data.outcome === 'refused' }">{{ word(`award-${data.outcome}`) }}</span>
          <small v-if="data.because" class="faint because">{{ data.because }}</small>
          <small v-if="data.unmet?.length" class="bad because">{{
            $t('badges.unmet', { asks: data.unmet.join('; ') })
          }}</small>
          <a
            v-if="data.outcome === 'awarded'"
            :href="data.address"
            target="_blank"
            rel="noopener"
            class="page"
            >{{ $t('badges.publicPage') }}</a
          >
        </template>
      </Column>
    </Listing>
  </div>
</template>

<style scoped>
.rows {
  max-height: 22rem;
  overflow-y: auto;
}

.bad {
  color: var(--signal);
}

.because {
  display: block;
}

.page {
  margin-inline-start: 0.6rem;
}
</style>
