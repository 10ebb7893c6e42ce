<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import ConfirmDialog from 'primevue/confirmdialog'
import Toast from 'primevue/toast'
import { useConfirm } from 'primevue/useconfirm'
import { computed, ref, watch } from 'vue'
import { type RouteLocationRaw, useRoute, useRouter } from 'vue-router'

import { api, ok, Problem } from './api/client'
import { left, listen, live, over, stop } from './api/live'
import { askWith } from './parts/form/ask'
import { letGo } from './parts/form/typed'
import Oops from './parts/Oops.vue'
import { entered } from './router'

const route = useRoute()
const router = useRouter()
const queries = useQueryClient()
askWith(useConfirm())
const pages = [
  ['/board', 'Board'],
  ['/sections', 'Sections'],
  ['/findings', 'Findings'],
  ['/connections', 'Connections'],
  ['/access', 'Access'],
  ['/outlines', 'Outlines'],
  ['/stage-plans', 'Stages'],
  ['/rules', 'Rules'],
  ['/events', 'Events'],
  ['/awards', 'Badges'],
  ['/settings', 'Settings'],
] as const

const inside = computed(() => route.matched.length > 0 && !route.meta.open)
const maintenance = useQuery({
  queryKey: ['maintenance'],
  queryFn: () => ok(api.GET('/api/v1/maintenance')),
  enabled: inside,
})

watch(
  () => route.matched.length > 0 && !route.meta.open,
  (inside) => inside && listen(queries, signedOut),
  { immediate: true },
)

const staying = ref<Error | null>(null) // why signing out failed

async function signOut() {
  staying.value = null
  try {
    await ok(api.DELETE('/api/v1/session'))
  } catch (e) {
    if (!(e instanceof Problem) || e.status !== 401) {
      const why = e instanceof Problem && e.status ? e.message : 'The service does not answer.'
      staying.value = new Error(`You are still signed in. ${why}`)
      return
    }
  }
  stop()
  await leave('/sign-in')
}

// Nothing of what was seen stays in a browser whose person has signed out.
async function leave(to: RouteLocationRaw) {
  entered(false)
  await router.push(to)
  queries.clear()
}

function signedOut() {
  left()
  letGo()
  if (!route.meta.open) void leave({ path: '/sign-in', query: { then: route.fullPath } })
}
</script>

<template>
  <header v-if="route.matched.length && !route.meta.open" class="strip">
    <RouterLink to="/board" class="mark" aria-label="Kanban, to the board">
      <svg viewBox="0 0 16 16" width="15" height="15" aria-hidden="true">
        <path d="M1 1h4v14H1zM6 1h4v9H6zM11 1h4v5h-4z" fill="currentColor" />
      </svg>
      Kanban
    </RouterLink>
    <nav aria-label="Pages">
      <RouterLink
        v-for="[path, title] in pages"
        :key="path"
        :to="path"
        :class="{
          here:
            route.path.startsWith(path) ||
            (path === '/events' && route.path === '/deliveries') ||
            (path === '/rules' && route.path === '/tasks'),
        }"
        >{{ title }}</RouterLink
      >
    </nav>
    <span class="live faint" :title="live ? 'This page updates itself.' : 'Trying to reach the service.'">
      <i :class="{ on: live }" /> {{ live ? 'up to date' : 'connecting' }}
    </span>
    <Button unstyled class="out" type="button" @click="signOut">Sign out</Button>
  </header>
  <p v-if="inside && maintenance.data.value?.on" class="paused" role="status">
    ‖ Everything is paused by {{ maintenance.data.value.by }}. {{ maintenance.data.value.note }} What is due
    waits. <RouterLink to="/settings">Go on…</RouterLink>
  </p>
  <p v-if="inside && over" class="paused" role="alert">
    ▲ Your session has ended; what is shown may be out of date.
    <a :href="`/sign-in?then=${encodeURIComponent(route.fullPath)}`" target="_blank">Sign in again…</a> This
    page goes on then.
  </p>
  <main :class="{ wide: !route.meta.open }">
    <Oops v-if="inside" :error="staying" :again="signOut" />
    <RouterView />
  </main>
  <ConfirmDialog :style="{ width: '28rem' }" />
  <Toast position="bottom-right" />
</template>

<style scoped>
.strip {
  display: flex;
  align-items: center;
  gap: 1.6rem;
  padding: 0 1.5rem;
  height: 44px;
  border-bottom: 1px solid var(--ink);
  background: var(--sheet);
  position: sticky;
  top: 0;
  z-index: 5;
}

.paused {
  margin: 0;
  padding: 0.4rem 1.5rem;
  background: var(--hair);
  border-bottom: 1px solid var(--line);
}

.mark {
  font: 400 1.1rem/1 var(--serif);
  text-decoration: none;
  display: flex;
  gap: 0.5rem;
  align-items: center;
}

nav {
  display: flex;
  gap: 1.3rem;
  flex: 1;
  align-self: stretch;
}

nav a {
  text-decoration: none;
  color: var(--faint);
  display: flex;
  align-items: center;
  border-bottom: 3px solid transparent;
  border-top: 3px solid transparent;
}

nav a.here {
  color: var(--ink);
  border-bottom-color: var(--signal);
}

.live {
  font-size: 12px;
  display: flex;
  align-items: center;
  gap: 0.4rem;
}

.live i {
  width: 7px;
  height: 7px;
  border: 1.5px solid var(--faint);
  border-radius: 50%;
}

.live i.on {
  background: var(--calm);
  border-color: var(--calm);
}

.out {
  font: inherit;
  border: 0;
  background: none;
  color: var(--faint);
  cursor: pointer;
}

main.wide {
  padding: 1.3rem 1.5rem 3rem;
  max-width: 1500px;
  margin: 0 auto;
}
</style>
