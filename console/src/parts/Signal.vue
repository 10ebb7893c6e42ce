<script setup lang="ts">
import { computed } from 'vue'

import { word } from './words'

/** The signal of a state: a small drawn shape and the word, never colour alone. */
const props = defineProps<{ state: string; silent?: boolean }>()

const urgent = computed(() =>
  [
    'needs-person',
    'failed',
    'waiting',
    'wrong-credential',
    'not-allowed',
    'broken',
    'unreachable',
    'refused',
    'not-arrived',
    'unknown',
  ].includes(props.state),
)
const shape = computed(() => {
  switch (props.state) {
    case 'needs-person':
      return 'M7 1.5 13 12.5H1Z'
    case 'out-of-step':
    case 'to-carry':
      return 'M7 1.5a5.5 5.5 0 0 0 0 11Z'
    case 'held':
      return 'M1.5 1.5H7v11H1.5Z'
    case 'paused':
      return 'M3 1.5h3v11H3ZM8 1.5h3v11H8Z'
    case 'in-step':
    case 'works':
    case 'finished':
    case 'delivered':
    case 'done':
    case 'on':
    case 'arrived':
      return 'M7 1.5a5.5 5.5 0 1 1 0 11 5.5 5.5 0 0 1 0-11Z'
  }
  return urgent.value ? 'M7 1.5 13 12.5H1Z' : ''
})
const outline = computed(() => {
  switch (props.state) {
    case 'not-paired':
      return 'M4.5 7h5'
    case 'held':
    case 'ended':
      return 'M1.5 1.5h11v11h-11Z'
    case 'paused':
      return ''
  }
  return urgent.value ? '' : 'M7 1.5a5.5 5.5 0 1 1 0 11 5.5 5.5 0 0 1 0-11Z'
})
</script>

<template>
  <span
    class="signal"
    :class="{
      urgent,
      calm: ['in-step', 'works', 'finished', 'delivered', 'done', 'on', 'arrived'].includes(state),
    }"
  >
    <svg viewBox="0 0 14 14" width="12" height="12" aria-hidden="true">
      <path :d="shape" fill="currentColor" />
      <path :d="outline" fill="none" stroke="currentColor" stroke-width="1.4" />
    </svg>
    <span :class="{ hidden: silent }">{{ word(state) }}</span>
  </span>
</template>

<style scoped>
.signal {
  display: inline-flex;
  gap: 0.4rem;
  align-items: center;
  white-space: nowrap;
}

.signal svg {
  flex: none;
}

.urgent {
  color: var(--signal);
  font-weight: 600;
}

.calm svg {
  color: var(--calm);
}

.hidden {
  position: absolute;
  width: 1px;
  height: 1px;
  overflow: hidden;
  clip-path: inset(50%);
}
</style>
