<script setup lang="ts">
import Button from 'primevue/button'
import { computed, defineAsyncComponent, onBeforeUnmount, onMounted, ref } from 'vue'
import { useRoute } from 'vue-router'

import { live } from '../api/live'
import { pageOf, seenBy } from './areas'
import AtWork from './AtWork.vue'
import { may, mayAll } from './may'
import Seen from './Seen.vue'

// Loaded when somebody asks for it.
const FindAnything = defineAsyncComponent(() => import('./FindAnything.vue'))

/** The way to every page: what people do, and below it the pages for that. */
const emit = defineEmits<{ out: [] }>()
const route = useRoute()
const here = computed(() => pageOf(route.path))
const finding = ref(false)
const areas = computed(() => seenBy(may, mayAll))
const pages = computed(
  () => areas.value.find((a) => a.title === here.value?.area.title)?.pages ?? here.value?.area.pages,
)

// Ctrl or Cmd with K from anywhere; a slash where nothing is typed.
function keys(e: KeyboardEvent) {
  const typing = (e.target as HTMLElement).closest?.('input, textarea, [contenteditable], [role="textbox"]')
  const k = (e.ctrlKey || e.metaKey) && !e.shiftKey && !e.altKey && e.key.toLowerCase() === 'k'
  if (!k && (e.key !== '/' || typing || e.ctrlKey || e.metaKey || e.altKey)) return
  e.preventDefault()
  finding.value = true
}
onMounted(() => addEventListener('keydown', keys))
onBeforeUnmount(() => removeEventListener('keydown', keys))
</script>

<template>
  <header class="strip">
    <div class="line">
      <RouterLink to="/" class="mark" :aria-label="$t('shell.kanbanToStart')">
        <svg viewBox="0 0 16 16" width="15" height="15" aria-hidden="true">
          <path d="M1 1h4v14H1zM6 1h4v9H6zM11 1h4v5h-4z" fill="currentColor" />
        </svg>
        {{ $t('shell.kanban') }}{{ ' ' }}</RouterLink
      >
      <nav :aria-label="$t('shell.whatToDo')">
        <RouterLink
          v-for="a in areas.filter((x) => !x.aside)"
          :key="a.title"
          :to="a.pages[0]!.to"
          :class="{ here: here?.area.title === a.title }"
          :aria-current="here?.area.title === a.title ? 'true' : undefined"
          >{{ a.title }}</RouterLink
        >
      </nav>
      <Button
        v-if="may('look')"
        unstyled
        type="button"
        class="find"
        aria-keyshortcuts="Control+K Meta+K /"
        @click="finding = true"
      >
        {{ $t('shell.find') }} <kbd aria-hidden="true">Ctrl K</kbd>
      </Button>
      <AtWork v-if="may('look')" />
      <span
        class="live faint"
        :title="live ? $t('shell.thisPageUpdatesItself') : $t('shell.tryingToReachService')"
        role="status"
      >
        <i :class="{ on: live }" /> {{ live ? $t('shell.upToDate') : $t('shell.connecting') }}
      </span>
      <RouterLink
        v-for="a in areas.filter((x) => x.aside)"
        :key="a.title"
        :to="a.pages.at(-1)!.to"
        class="account"
        :aria-current="here?.area.title === a.title ? 'true' : undefined"
        >{{ a.title }}</RouterLink
      >
      <Button unstyled class="out" type="button" @click="emit('out')">{{ $t('shell.signOut') }}</Button>
    </div>
    <nav class="pages" :aria-label="here?.area.title ?? $t('shell.pages')">
      <RouterLink
        v-for="p in pages"
        :key="p.to"
        :to="p.to"
        :class="{ here: here?.page?.to === p.to }"
        :aria-current="here?.page?.to === p.to ? (route.path === p.to ? 'page' : 'true') : undefined"
        >{{ p.title }}</RouterLink
      >
    </nav>
    <Seen />
  </header>
  <FindAnything v-if="finding" @close="finding = false" />
</template>

<style scoped>
.strip {
  border-bottom: 1px solid var(--ink);
  background: var(--sheet);
  position: sticky;
  top: 0;
  z-index: 5;
}

.line {
  display: flex;
  align-items: center;
  gap: 1.2rem;
  padding: 0 1.5rem;
  height: 44px;
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
  gap: 1.1rem;
}

.line nav {
  flex: 1;
  align-self: stretch;
  min-width: 0;
  overflow-x: auto;
  scrollbar-width: none;
}

nav a {
  text-decoration: none;
  color: var(--faint);
  display: flex;
  align-items: center;
  white-space: nowrap;
  border-block: 3px solid transparent;
}

nav a:hover {
  color: var(--ink);
}

nav a.here {
  color: var(--ink);
  border-bottom-color: var(--signal);
}

.pages {
  padding: 0 1.5rem;
  height: 32px;
  border-top: 1px solid var(--hair);
  font-size: 13px;
  overflow-x: auto;
  scrollbar-width: none;
}

.pages a {
  border-block-width: 2px;
}

.pages a.here {
  border-bottom-color: var(--ink);
}

.find {
  font: inherit;
  font-size: 13px;
  color: var(--faint);
  background: none;
  border: 1px solid var(--line);
  padding: 0.15rem 0.6rem;
  cursor: pointer;
  white-space: nowrap;
}

.find:hover {
  border-color: var(--ink);
  color: var(--ink);
}

kbd {
  font: 11px var(--mono);
  margin-inline-start: 0.4rem;
}

.live {
  font-size: 12px;
  display: flex;
  align-items: center;
  gap: 0.4rem;
  white-space: nowrap;
  min-width: 5.6rem;
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

.account {
  text-decoration: none;
  color: var(--faint);
  white-space: nowrap;
}

.out {
  font: inherit;
  border: 0;
  background: none;
  color: var(--faint);
  cursor: pointer;
  white-space: nowrap;
}

@media (max-width: 900px) {
  .line {
    flex-wrap: wrap;
    height: auto;
    gap: 0.4rem 1rem;
    padding: 0.5rem 1rem 0;
  }

  .line nav {
    order: 5;
    flex: 1 0 100%;
    height: 36px;
  }

  .mark {
    margin-inline-end: auto;
  }

  .live,
  kbd {
    display: none;
  }
}
</style>
