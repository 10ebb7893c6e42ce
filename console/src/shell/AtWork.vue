<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Popover from 'primevue/popover'
import { useToast } from 'primevue/usetoast'
import { ref, useTemplateRef, watch } from 'vue'
import { useRoute } from 'vue-router'

import { api, ok } from '../api/client'
import { remaining } from '../pages/pairings/run'
import { atWork, ended } from './atwork'

/** What is at work now, from wherever one is; and a word when what one started has ended. */
const route = useRoute()
const toast = useToast()
const works = useQuery({ queryKey: ['at-work'], queryFn: atWork, staleTime: 0 })
const me = useQuery({ queryKey: ['session'], queryFn: () => ok(api.GET('/api/v1/session')) })
const open = useTemplateRef<InstanceType<typeof Popover>>('open')
const shown = ref(false)

watch(works.data, async (now, before) => {
  if (now?.more || before?.more) return // whoever is not seen may be at work still
  const here = new Set(now?.items.map((w) => w.to))
  for (const w of before?.items ?? []) {
    if (here.has(w.to) || w.by !== me.data.value?.name || route.path === w.to) continue
    const said = await ended(w)
    if (said) toast.add({ ...said, life: said.severity === 'success' ? 8_000 : 30_000 })
  }
})
</script>

<template>
  <span class="work">
    <Button
      v-if="works.data.value?.items.length"
      unstyled
      type="button"
      class="count"
      aria-haspopup="dialog"
      :aria-expanded="shown"
      @click="open?.toggle($event)"
      >{{
        $t('shell.atWork', {
          items: works.data.value.items.length,
          more: works.data.value.more ? $t('shell.andMore') : '',
        })
      }}</Button
    >
    <Popover ref="open" :aria-label="$t('shell.atWorkName')" @show="shown = true" @hide="shown = false">
      <ul>
        <li v-for="w in works.data.value?.items" :key="w.to">
          <RouterLink :to="w.to" @click="open?.hide()">{{ w.title }}</RouterLink>
          <span class="faint"
            >{{ w.state }}<template v-if="w.secondsLeft">, {{ remaining(w.secondsLeft) }}</template></span
          >
        </li>
      </ul>
      <p v-if="works.data.value?.more">
        <RouterLink to="/runs?active=yes" @click="open?.hide()">{{ $t('shell.seeAllThatAreAt') }}</RouterLink>
      </p>
      <p class="faint">{{ $t('shell.itGoesOnWhenYou') }}</p>
    </Popover>
  </span>
</template>

<style scoped>
.count {
  font: inherit;
  font-size: 12.5px;
  border: 0;
  background: none;
  text-decoration: underline;
  cursor: pointer;
  white-space: nowrap;
}

ul {
  list-style: none;
  margin: 0;
  padding: 0;
  max-height: 20rem;
  overflow: auto;
}

li {
  display: flex;
  justify-content: space-between;
  gap: 1.5rem;
  padding: 0.25rem 0;
  border-bottom: 1px solid var(--hair);
}

p {
  margin: 0.5rem 0 0;
  font-size: 12.5px;
}
</style>
