<script setup lang="ts">
import Button from 'primevue/button'

import type { Schemas } from '../../api/client'
import { when } from '../../parts/when'

/** People who are not in the class outside, why, who can mend it, and what they were told. */
defineProps<{ people: Schemas['MissingPerson'][]; hand?: boolean }>()
const emit = defineEmits<{ hand: [person: Schemas['MissingPerson']] }>()
</script>

<template>
  <ul v-if="people.length" class="sheet">
    <li v-for="p in people" :key="(p.personId ?? '') + p.name">
      <div>
        <RouterLink v-if="p.personId" :to="`/people/${p.personId}`">{{ p.name }}</RouterLink>
        <template v-else>{{ p.name }}</template>
        <span class="says">{{ p.says }}</span>
        <small class="faint">
          <template v-if="p.ask && p.ask !== 'nobody'">{{
            $t('people.whoCanMendIt', { owner: p.ask })
          }}</template>
          <template v-if="p.since">{{ ' ' }}{{ $t('teaching.since', { at: when(p.since) }) }}</template>
        </small>
        <small v-if="p.task" class="told">
          <template v-if="p.task.doneAt"
            >{{ $t('teaching.answered', { who: p.task.doneBy, at: when(p.task.doneAt) }) }}
            <b>{{ p.task.answer || $t('teaching.noWords') }}</b></template
          >
          <template v-else>{{
            $t('teaching.handed', { who: p.task.asker, at: when(p.task.createdAt) })
          }}</template>
        </small>
      </div>
      <Button
        v-if="hand && p.personId && !(p.task && !p.task.doneAt)"
        size="small"
        variant="outlined"
        :label="$t('teaching.handOn')"
        :aria-label="$t('teaching.handOnNamed', { name: p.name })"
        @click="emit('hand', p)"
      />
    </li>
  </ul>
</template>

<style scoped>
ul {
  margin: 0.3rem 0;
  padding: 0;
  list-style: none;
}

li {
  display: flex;
  align-items: center;
  justify-content: space-between;
  gap: 1rem;
  padding: 0.5rem 0.9rem;
  border-bottom: 1px solid var(--hair);
}

.says {
  margin-inline-start: 0.7rem;
}

small {
  display: block;
}
</style>
