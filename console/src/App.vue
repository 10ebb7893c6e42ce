<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import ConfirmDialog from 'primevue/confirmdialog'
import Toast from 'primevue/toast'
import { useConfirm } from 'primevue/useconfirm'
import { computed, nextTick, ref, useTemplateRef, watch } from 'vue'
import { type RouteLocationRaw, useRoute, useRouter } from 'vue-router'

import { api, ok, Problem } from './api/client'
import { left, listen, over, stop } from './api/live'
import { askWith } from './parts/form/ask'
import { letGo } from './parts/form/typed'
import Oops from './parts/Oops.vue'
import { entered } from './router'
import TopBar from './shell/TopBar.vue'
import { $t } from './texts'

const route = useRoute()
const router = useRouter()
const queries = useQueryClient()
askWith(useConfirm())
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

// Whoever goes on by keyboard goes on from the top of the page that is new.
const content = useTemplateRef<HTMLElement>('content')
router.afterEach(async (to, from) => {
  if (to.path === from.path || !from.matched.length) return
  await nextTick()
  const at = document.activeElement
  if (!at || at === document.body || at.closest('header')) content.value?.focus({ preventScroll: true })
})

const staying = ref<Error | null>(null) // why signing out failed

async function signOut() {
  staying.value = null
  let next: string | undefined
  try {
    next = (await ok(api.DELETE('/api/v1/session'))).next
  } catch (e) {
    if (!(e instanceof Problem) || e.status !== 401) {
      const why = e instanceof Problem && e.status ? e.message : $t('shell.serviceDoesNotAnswer')
      staying.value = new Error($t('shell.youAreStillSignedIn', { why }))
      return
    }
  }
  stop()
  await leave('/sign-in')
  if (next) window.location.assign(next) // they sign out of the provider too
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
  <a v-if="inside" class="skip" href="#content" @click.prevent="content?.focus()">{{
    $t('shell.toContent')
  }}</a>
  <TopBar v-if="inside" @out="signOut" />
  <p v-if="inside && maintenance.data.value?.on" class="paused" role="status">
    {{
      $t('shell.everythingIsPausedByWhat', {
        by: maintenance.data.value.by,
        note: maintenance.data.value.note,
      })
    }}
    <RouterLink to="/settings">{{ $t('shell.goOn') }}</RouterLink>
  </p>
  <p v-if="inside && over" class="paused" role="alert">
    <i18n-t keypath="shell.yourSessionHasEndedWhat" scope="global"
      ><template #signInAgain
        ><a :href="`/sign-in?then=${encodeURIComponent(route.fullPath)}`" target="_blank">{{
          $t('shell.signInAgain')
        }}</a></template
      ></i18n-t
    >
  </p>
  <main id="content" ref="content" tabindex="-1" :class="{ wide: !route.meta.open }">
    <Oops v-if="inside" :error="staying" :again="signOut" />
    <RouterView />
  </main>
  <ConfirmDialog :style="{ width: '28rem' }" />
  <Toast position="bottom-right">
    <template #message="{ message }">
      <div class="said">
        <b>{{ message.summary }}</b>
        <span v-if="message.detail">{{ message.detail }}</span>
        <RouterLink v-if="message.to" :to="message.to">{{ $t('shell.showIt') }}</RouterLink>
      </div>
    </template>
  </Toast>
</template>

<style scoped>
.skip {
  position: absolute;
  inset-inline-start: -99rem;
  z-index: 9;
  background: var(--sheet);
  padding: 0.5rem 1rem;
}

.skip:focus {
  inset-inline-start: 0.5rem;
  top: 0.4rem;
}

.paused {
  margin: 0;
  padding: 0.4rem 1.5rem;
  background: var(--hair);
  border-bottom: 1px solid var(--line);
}

.said {
  display: grid;
  gap: 0.15rem;
  flex: 1;
}

main:focus {
  outline: none;
}

main.wide {
  padding: 1.3rem 1.5rem 3rem;
  max-width: 1500px;
  margin: 0 auto;
}
</style>
