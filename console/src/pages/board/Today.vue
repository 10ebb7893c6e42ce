<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, ref } from 'vue'

import { api, ok } from '../../api/client'
import { $t } from '../../texts'
import { useToday } from './today'

const today = useToday()
const rest = useQuery({ queryKey: ['today', 'rest'], queryFn: () => ok(api.GET('/api/v1/today/rest')) })
const beside = computed(() => {
  const said = rest.data.value
  if (!said) return rest.error.value ? $t('board.howEverythingElseStandsCould') : ''
  return said.length
    ? $t('board.notInStepOrNot', { said: said.join(', ') })
    : $t('board.everythingElseIsInStep')
})
const calm = computed(() => !tasks.value.length && rest.data.value?.length === 0)
const open = ref(true)
const tasks = computed(() => today.data.value ?? [])
// The board below stays in sight: the most harmful first, the others when asked for.
const few = 5
const every = ref(false)
const shown = computed(() => (every.value ? tasks.value : tasks.value.slice(0, few)))
</script>

<template>
  <section v-if="today.data.value" class="today sheet" :aria-label="$t('board.today')">
    <Button unstyled type="button" class="bar" :aria-expanded="open" @click="open = !open">
      <template v-if="tasks.length">{{
        $t('board.thingNeedsPersonToday', { tasks: tasks.length }, tasks.length)
      }}</template>
      <span v-else :class="{ quiet: calm }">{{
        $t('board.nothingNeedsPersonToday', { calm: calm ? '●' : '○', beside })
      }}</span>
      <span v-if="tasks.length" class="faint">{{ open ? $t('board.hide') : $t('board.show') }}</span>
    </Button>
    <p v-if="tasks.length && beside" class="faint beside">{{ beside }}</p>
    <ol v-if="open && tasks.length">
      <li v-for="(t, i) in shown" :key="i">
        <span
          ><RouterLink :to="t.link">{{ t.subject || t.where }}</RouterLink>
          <small v-if="t.subject && t.where" class="faint">{{ t.where }}</small>
          <details v-if="t.people?.length" class="people">
            <summary>{{ $t('board.who') }}</summary>
            <RouterLink v-for="p in t.people" :key="p.key" :to="p.link || `/people/${p.personId}`"
              >{{ p.person }}
              <span class="faint">{{ [p.where, p.detail].filter(Boolean).join(' · ') }}</span></RouterLink
            >
          </details></span
        >
        <span class="what"
          >{{ t.title }}<template v-if="t.detail"> ({{ t.detail }})</template></span
        >
        <span class="faint">{{ t.remedy }}</span>
        <span class="faint who">{{ t.owner }}</span>
      </li>
      <li v-if="tasks.length > few" class="rest">
        <Button unstyled type="button" @click="every = !every">
          {{ every ? $t('board.showFewer') : $t('board.showAll', { tasks: tasks.length }) }}
        </Button>
      </li>
    </ol>
  </section>
</template>

<style scoped>
.today {
  margin-bottom: 1rem;
  border-inline-start: 3px solid var(--signal);
}

.today:has(.quiet) {
  border-inline-start-color: var(--calm);
}

.bar {
  font: 600 13px/1.4 var(--sans);
  color: var(--signal);
  width: 100%;
  text-align: start;
  border: 0;
  background: none;
  padding: 0.5rem 0.9rem;
  display: flex;
  justify-content: space-between;
  cursor: pointer;
}

.beside {
  margin: 0 0.9rem 0.4rem;
  font-size: 12.5px;
}

.quiet {
  color: var(--calm);
}

ol {
  list-style: none;
  margin: 0;
  padding: 0 0.9rem 0.5rem;
}

li {
  display: grid;
  grid-template-columns: 12rem 18rem 1fr 8rem;
  gap: 1rem;
  padding: 0.28rem 0;
  border-top: 1px solid var(--hair);
  font-size: 13px;
}

li small.faint {
  display: block;
  margin-inline-start: 0;
}

.rest button {
  font: inherit;
  border: 0;
  background: none;
  text-decoration: underline;
  text-align: start;
  color: var(--faint);
  cursor: pointer;
  padding: 0;
}

.people a {
  display: block;
  text-decoration: none;
}

.people summary {
  cursor: pointer;
  color: var(--faint);
}

.who {
  text-align: end;
}

@media (max-width: 900px) {
  li {
    grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
    gap: 0 1rem;
  }

  .who {
    text-align: start;
  }
}
</style>
