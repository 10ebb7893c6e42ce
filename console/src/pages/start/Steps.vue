<script setup lang="ts">
import Button from 'primevue/button'
import { computed, ref } from 'vue'

import type { FirstStep } from './steps'

/** Leads through steps, each with what was found when it was looked at, until all are done or
 * somebody puts them away, which this browser remembers under their name. */
const props = defineProps<{ name: string; title: string; steps: FirstStep[] }>()
const next = computed(() => props.steps.findIndex((s) => !s.done))
const away = ref(localStorage.getItem(props.name) === 'away')

function put(aside: boolean) {
  away.value = aside
  localStorage.setItem(props.name, aside ? 'away' : 'shown')
}
</script>

<template>
  <section v-if="next >= 0 && !away" class="sheet steps" :aria-label="title">
    <header>
      <h2>{{ title }}</h2>
      <Button size="small" variant="text" :label="$t('start.putAway')" @click="put(true)" />
    </header>
    <ol>
      <li
        v-for="(s, i) in steps"
        :key="s.title"
        :class="{ done: s.done, now: i === next }"
        :aria-current="i === next ? 'step' : undefined"
      >
        <span class="mark" aria-hidden="true">{{ s.done ? '●' : '○' }}</span>
        <span
          ><b>{{ s.title }}</b> <span class="faint">{{ s.why }}</span></span
        >
        <span
          ><span class="aside">{{ s.done ? $t('start.done') : $t('start.toDo') }}</span
          >{{ s.check }}</span
        >
        <RouterLink v-if="s.to" :to="s.to" :class="{ act: i === next }">{{ s.act }}</RouterLink>
        <span v-else />
      </li>
    </ol>
  </section>
  <p v-else-if="next >= 0" class="faint again">
    {{ $t('start.stepsDone', { done: steps.filter((s) => s.done).length, all: steps.length }) }}
    <Button size="small" variant="text" :label="$t('start.showThem')" @click="put(false)" />
  </p>
</template>

<style scoped>
.steps {
  padding: 0.9rem 1.2rem 1.1rem;
  margin-block: 1rem;
  border-inline-start: 3px solid var(--ink);
}

header {
  display: flex;
  justify-content: space-between;
  align-items: center;
}

h2 {
  margin: 0;
  font: 400 1.15rem/1.2 var(--serif);
}

ol {
  list-style: none;
  margin: 0.5rem 0 0;
  padding: 0;
}

li {
  display: grid;
  grid-template-columns: 1.2rem minmax(0, 1.2fr) minmax(0, 1fr) 13rem;
  gap: 0.3rem 1rem;
  padding: 0.55rem 0;
  border-top: 1px solid var(--hair);
  align-items: baseline;
}

li b {
  display: block;
}

.done {
  color: var(--faint);
}

.done .mark {
  color: var(--calm);
}

.act {
  background: var(--ink);
  color: var(--sheet);
  padding: 0.35rem 0.8rem;
  text-decoration: none;
  text-align: center;
}

.again {
  margin: 0 0 0.7rem;
}

@media (max-width: 760px) {
  li {
    grid-template-columns: 1.2rem 1fr;
  }

  li > :nth-child(n + 3) {
    grid-column: 2;
  }
}
</style>
