<script setup lang="ts">
import type { Schemas } from '../../api/client'
import { $t } from '../../texts'

/** What a stage plan would find were it on. */
defineProps<{ preview: Schemas['StagePlanPreview'] }>()

/** The first of some people, and how many more there are. */
function moved(names: string[] | undefined, of: number) {
  const more = of - (names?.length ?? 0)
  return (names ?? []).join(', ') + (more ? $t('stages.andMore', { more }) : '')
}
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
      <small v-if="s.newly" class="faint">{{
        $t('stages.newlyPeople', { people: moved(s.newlyPeople, s.newly) })
      }}</small>
      <small v-if="s.reopened" class="faint">{{
        $t('stages.reopenedPeople', { people: moved(s.reopenedPeople, s.reopened) })
      }}</small>
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

small {
  display: block;
}

.again {
  color: var(--signal);
  font-weight: 600;
}
</style>
