<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'

import { api, ok } from '../../api/client'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import Signal from '../../parts/Signal.vue'
import Card from './Card.vue'
import Today from './Today.vue'

const board = useQuery({ queryKey: ['board'], queryFn: () => ok(api.GET('/api/v1/board')) })
const find = ref('')
const columns = computed(() => {
  const text = find.value.trim().toLowerCase()
  return (board.data.value?.columns ?? [])
    .map((c) => ({
      ...c,
      cards: text
        ? c.cards.filter((x) =>
            [x.title, x.code, x.course, ...x.teachers].join(' ').toLowerCase().includes(text),
          )
        : c.cards,
    }))
    .filter((c) => c.count > 0)
})
const total = computed(() => columns.value.reduce((n, c) => n + c.count, 0))
</script>

<template>
  <PageHead
    title="Board"
    :about="total ? `${total} sections by state, the ones that need somebody first` : undefined"
  >
    <input
      v-model="find"
      class="find"
      type="search"
      placeholder="Find a section, course or teacher"
      aria-label="Find"
    />
  </PageHead>
  <Oops v-if="board.error.value" :error="board.error.value" :again="board.refetch" />
  <p v-else-if="board.data.value && !total" class="sheet empty faint">
    No section yet. <RouterLink to="/connections">Connect a register</RouterLink> and read it.
  </p>
  <template v-else>
    <Today />
    <div class="board" :aria-busy="board.isLoading.value">
      <section v-for="c in columns" :key="c.state" :aria-label="c.state" :class="c.state">
        <h2>
          <Signal :state="c.state" /> <b>{{ c.count }}</b>
        </h2>
        <Card v-for="x in c.cards" :key="x.id + x.pairingId" :section="x" />
        <RouterLink
          v-if="c.count > c.cards.length && !find"
          class="more"
          :to="{ path: '/sections', query: { state: c.state } }"
          >all {{ c.count }}</RouterLink
        >
      </section>
    </div>
  </template>
</template>

<style scoped>
.find {
  font: inherit;
  width: 17rem;
  padding: 0.35rem 0.6rem;
  border: 1px solid var(--line);
  background: var(--sheet);
}

.empty {
  padding: 1.4rem;
}

.board {
  display: grid;
  grid-auto-flow: column;
  grid-auto-columns: minmax(15rem, 22rem);
  gap: 1rem;
  overflow-x: auto;
  align-items: start;
  padding-bottom: 1rem;
}

h2 {
  display: flex;
  justify-content: space-between;
  border-bottom: 1.5px solid var(--ink);
  padding-bottom: 0.3rem;
  margin-top: 0.6rem;
}

.needs-person h2 {
  border-color: var(--signal);
}

.more {
  display: block;
  padding: 0.4rem 0;
}
</style>
