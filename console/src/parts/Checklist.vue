<script setup lang="ts">
import Button from 'primevue/button'
import { computed, ref } from 'vue'

import type { Schemas } from '../api/client'

/** What of a set-up is done, what comes next, and whether it is live. */
const props = defineProps<{ list: Schemas['Checklist']; open?: boolean }>()
const open = ref(props.open)
const next = computed(() => props.list.steps.find((s) => !s.done))
const done = computed(() => props.list.steps.filter((s) => s.done).length)
</script>

<template>
  <div class="checklist">
    <Button unstyled type="button" :aria-expanded="open" @click="open = !open">
      <b v-if="list.live" class="live">{{ $t('parts.live') }}</b>
      <template v-else
        ><i18n-t keypath="parts.next" scope="global"
          ><template #what
            ><b>{{ $t('parts.of', { done, steps: list.steps.length }) }}</b></template
          ><template #title>{{ next?.title }}</template></i18n-t
        ></template
      >
    </Button>
    <ol v-if="open">
      <li v-for="s in list.steps" :key="s.title" :class="{ done: s.done }">
        <span aria-hidden="true">{{ s.done ? '●' : '○' }}</span>
        <span
          >{{ s.title }} <span v-if="!s.done" class="faint">{{ s.next }}</span></span
        >
      </li>
    </ol>
  </div>
</template>

<style scoped>
button {
  font: inherit;
  font-size: 12.5px;
  border: 0;
  background: none;
  padding: 0;
  color: var(--faint);
  cursor: pointer;
  text-align: start;
}

b {
  color: var(--ink);
  font-weight: 600;
}

b.live {
  color: var(--calm);
}

ol {
  list-style: none;
  margin: 0.3rem 0 0;
  padding: 0;
  font-size: 12.5px;
}

li {
  display: grid;
  grid-template-columns: 1.1rem 1fr;
  padding: 0.1rem 0;
}

.done {
  color: var(--faint);
}
</style>
