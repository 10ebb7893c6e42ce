<script setup lang="ts">
import Column from 'primevue/column'

import type { Schemas } from '../../api/client'
import Listing from '../../parts/Listing.vue'

/** What the classes on both sides have in common. */
defineProps<{ all: Schemas['ScoreOverlap'][] }>()
</script>

<template>
  <h2>{{ $t('scores.inCommon') }}</h2>
  <Listing :rows="all" :loading="false" :error="null" row-key="sectionId" :empty="$t('scores.noSections')">
    <Column field="section" :header="$t('common.section')" />
    <Column field="bookClass" :header="$t('scores.classInBook')" />
    <Column field="both" :header="$t('scores.learnersInBoth')" />
    <Column field="bookOnly" :header="$t('scores.withoutScore')" />
    <Column field="items" :header="$t('scores.sameTitle')" />
    <Column>
      <template #body="{ data }"
        ><b v-if="data.poor" class="poor">{{ $t('scores.fewInCommon') }}</b></template
      >
    </Column>
  </Listing>
</template>

<style scoped>
.poor {
  color: var(--signal);
}
</style>
