<script setup lang="ts">
import { computed } from 'vue'

import { word } from '../../parts/words'
import { outcomes, urgent, writes } from './scores'

/** Scores per outcome, as a bar and in words; the numbers add up to all scores. */
const props = defineProps<{ counts: Record<string, number> }>()
const parts = computed(() =>
  outcomes.map((name) => ({ name, n: props.counts[name] ?? 0 })).filter((p) => p.n > 0),
)
const kind = (o: string) =>
  urgent.includes(o) ? 'urgent' : writes.includes(o) ? 'ink' : o === 'held' ? 'held' : 'calm'
</script>

<template>
  <span v-if="parts.length" class="counts">
    <span class="bar" aria-hidden="true"
      ><i v-for="p in parts" :key="p.name" :class="kind(p.name)" :style="{ flexGrow: p.n }"
    /></span>
    <span class="faint">{{ parts.map((p) => `${p.n} ${word(`score-${p.name}`, p.n)}`).join(', ') }}</span>
  </span>
  <span v-else class="faint">{{ $t('scores.noScores') }}</span>
</template>

<style scoped>
.counts {
  display: block;
}

.bar {
  display: flex;
  height: 5px;
  gap: 1px;
  margin: 0.25rem 0;
  max-width: 22rem;
}

i {
  min-width: 3px;
}

.urgent {
  background: var(--signal);
}

.ink {
  background: var(--ink);
}

.held {
  background: repeating-linear-gradient(90deg, var(--faint) 0 2px, transparent 2px 4px);
}

.calm {
  background: var(--calm);
}

.counts .faint {
  font-size: 12px;
}
</style>
