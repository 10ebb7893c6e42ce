<script setup lang="ts">
import { computed, ref } from 'vue'

import type { Schemas } from '../api/client'
import { $t } from '../texts'
import Tabs from './Tabs.vue'

/** What becomes of everybody in classes at the other side, those who are removed first. */
const props = defineProps<{ classes: Schemas['ClassEffects'][] | undefined; loading?: boolean }>()
const words = {
  removed: [$t('parts.isRemoved'), $t('parts.areRemoved')],
  added: [$t('parts.isAdded'), $t('parts.areAdded')],
  'not-added': [$t('parts.isNotAdded'), $t('parts.areNotAdded')],
  stays: [$t('parts.stays'), $t('parts.stay')],
} as const
type Effect = keyof typeof words
const people = computed(() =>
  (props.classes ?? []).flatMap((c) => c.people.map((p) => ({ ...p, target: c.target }))),
)
const shown = ref('')
const tabs = computed(() => [
  { name: '', title: $t('parts.all'), count: people.value.length },
  ...(Object.keys(words) as Effect[])
    .map((f) => ({ name: f, title: words[f][1], count: people.value.filter((p) => p.effect === f).length }))
    .filter((t) => t.count),
])
const rows = computed(() => people.value.filter((p) => !shown.value || p.effect === shown.value))
</script>

<template>
  <p v-if="loading" class="faint" aria-busy="true">{{ $t('parts.lookingAtClass') }}</p>
  <template v-else-if="classes">
    <p v-if="!people.length" class="faint">{{ $t('parts.nobodyIsInClassWhom') }}</p>
    <template v-else>
      <Tabs v-model="shown" :label="$t('parts.whatBecomesOfThem')" :tabs="tabs" />
      <ul class="people">
        <li v-for="p in rows" :key="p.target + p.name + p.personId">
          <b :class="{ out: p.effect === 'removed' }">{{ words[p.effect as Effect][0] }}</b>
          <span>
            {{ p.name }} <span class="faint">{{ p.role }}</span>
            <span v-if="classes.length > 1" class="faint"> · {{ p.target }}</span>
          </span>
          <small class="faint">{{ p.why }}</small>
        </li>
      </ul>
    </template>
  </template>
</template>

<style scoped>
.people {
  list-style: none;
  padding: 0;
  margin: 0 0 1rem;
  max-height: 17rem;
  overflow-y: auto;
  border-top: 1px solid var(--hair);
}

li {
  display: grid;
  grid-template-columns: 5.5rem 1fr 1fr;
  gap: 0.6rem;
  padding: 0.2rem 0;
  border-bottom: 1px solid var(--hair);
}

b {
  font-weight: 600;
}

.out {
  color: var(--signal);
}
</style>
