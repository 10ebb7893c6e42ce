<script setup lang="ts">
import type { Schemas } from '../../api/client'

/** What a stage plan would find were it on. */
defineProps<{ preview: Schemas['StagePlanPreview'] }>()
</script>

<template>
  <div class="found" role="status">
    <b
      >{{ ' '
      }}{{
        $t(
          'stages.ofPersonWouldHaveFinished',
          {
            people: preview.people,
            finished: preview.finished,
            badges: preview.badges,
            badges2: $t('stages.badgeCount', preview.badges),
          },
          preview.people,
        )
      }}{{ ' ' }}</b
    >
    <p v-for="s in preview.stages" :key="s.stageId">
      {{ $t('stages.reachedBy', { title: s.title, reached: s.reached })
      }}<span v-if="s.newly !== s.reached" class="faint">{{ $t('stages.newlyBy', { newly: s.newly }) }}</span
      ><span v-if="s.reopened" class="again"
        >{{ ' ' }}{{ $t('stages.openAgainFor', { reopened: s.reopened }) }}</span
      >
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
