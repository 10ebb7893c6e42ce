<script setup lang="ts">
import type { Schemas } from '../../api/client'

/** What a stage plan would find were it on. */
defineProps<{ preview: Schemas['StagePlanPreview'] }>()
</script>

<template>
  <div class="found" role="status">
    <b>
      Of {{ preview.people }} {{ preview.people === 1 ? 'person' : 'people' }} {{ preview.finished }} would
      have finished; {{ preview.badges }} {{ preview.badges === 1 ? 'badge' : 'badges' }} would be awarded at
      once.
    </b>
    <p v-for="s in preview.stages" :key="s.stageId">
      {{ s.title }}: reached by {{ s.reached
      }}<span v-if="s.newly !== s.reached" class="faint">, newly by {{ s.newly }}</span
      ><span v-if="s.reopened" class="again"> ▲ open again for {{ s.reopened }}</span>
    </p>
  </div>
</template>

<style scoped>
.found {
  border-inline-start: 3px solid var(--calm);
  padding: 0.3rem 0.9rem;
  margin: 0.6rem 0;
}

p {
  margin: 0.2rem 0 0;
}

.again {
  color: var(--signal);
  font-weight: 600;
}
</style>
