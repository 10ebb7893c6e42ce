<script setup lang="ts">
import { computed } from 'vue'

import { word } from './words'

/** People per outcome, as a bar and in words; the numbers add up to the roster. */
const props = defineProps<{ counts: Record<string, number> | undefined; wordless?: boolean }>()

const order = ['needs-person', 'to-add', 'to-update', 'to-remove', 'waiting', 'in-step', 'left-out']
const parts = computed(() =>
  order.map((name) => ({ name, n: props.counts?.[name] ?? 0 })).filter((p) => p.n > 0),
)
const text = computed(() => parts.value.map((p) => `${p.n} ${word(p.name, p.n)}`).join(', '))
</script>

<template>
  <span v-if="parts.length" class="counts" :title="text">
    <span class="bar" aria-hidden="true"
      ><i v-for="p in parts" :key="p.name" :class="p.name" :style="{ flexGrow: p.n }"
    /></span>
    <span v-if="!wordless" class="faint">{{ text }}</span>
  </span>
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
}

i {
  background: var(--line);
  min-width: 3px;
}

.needs-person {
  background: var(--signal);
}

.to-add,
.to-update,
.to-remove {
  background: var(--ink);
}

.waiting {
  background: repeating-linear-gradient(90deg, var(--faint) 0 2px, transparent 2px 4px);
}

.in-step {
  background: var(--calm);
}

.counts .faint {
  font-size: 12px;
}
</style>
