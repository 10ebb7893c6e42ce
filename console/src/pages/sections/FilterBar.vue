<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'

import { api, ifMatch, ok, tagOf, type Schemas } from '../../api/client'
import HidingForm from './HidingForm.vue'
import { noFilters, type Filters } from './sections'

/** Narrows a list of sections; ways to narrow it can be saved. */
const props = defineProps<{
  choices?: Schemas['Choices']
  left: Schemas['HiddenCount'][]
}>()
const filters = defineModel<Filters>({ required: true })
const queries = useQueryClient()
const editing = ref(false)
const more = ref(false)

const selects = computed(() => [
  { name: 'term' as const, any: 'every term', values: props.choices?.terms, rare: false },
  { name: 'state' as const, any: 'every state', values: states, rare: false },
  { name: 'course' as const, any: 'every course', values: props.choices?.courses, rare: true },
  { name: 'teacher' as const, any: 'every teacher', values: props.choices?.teachers, rare: true },
  {
    name: 'organisation' as const,
    any: 'every organisation',
    values: props.choices?.organisations,
    rare: true,
  },
  { name: 'service' as const, any: 'every service', values: props.choices?.services, rare: true },
  { name: 'role' as const, any: 'every role', values: props.choices?.roles, rare: true },
])
const states = [
  'needs-person',
  'out-of-step',
  'never-run',
  'held',
  'paused',
  'in-step',
  'not-paired',
  'ended',
]
const shown = computed(() => selects.value.filter((s) => !s.rare || more.value || filters.value[s.name]))

function set(name: keyof Filters, value: string) {
  filters.value = { ...filters.value, [name]: value }
}

const views = useQuery({
  queryKey: ['views'],
  queryFn: () => ok(api.GET('/api/v1/views')),
  structuralSharing: false,
})
const save = useMutation({
  mutationFn: (body: Schemas['View'][]) =>
    ok(api.PUT('/api/v1/views', { params: { header: ifMatch(tagOf(views.data.value)) }, body })),
  onSettled: () => queries.invalidateQueries({ queryKey: ['views'] }),
})
const used = computed(() => Object.entries(filters.value).filter(([, v]) => v))
const view = computed(() =>
  views.data.value?.find(
    (v) =>
      JSON.stringify({ ...noFilters(), ...v.query }) === JSON.stringify({ ...noFilters(), ...filters.value }),
  ),
)
const naming = ref<string>()

function keep() {
  const name = naming.value?.trim()
  if (!name) return
  const others = (views.data.value ?? []).filter((v) => v.name !== name)
  save.mutate([...others, { name, query: Object.fromEntries(used.value) }])
  naming.value = undefined
}
</script>

<template>
  <div class="bar">
    <input
      :value="filters.text"
      class="filter"
      type="search"
      placeholder="Title, course or teacher"
      aria-label="Find"
      @input="(e) => set('text', (e.target as HTMLInputElement).value)"
    />
    <select
      v-for="s in shown"
      :key="s.name"
      class="filter"
      :aria-label="s.name"
      :value="filters[s.name]"
      @change="(e) => set(s.name, (e.target as HTMLSelectElement).value)"
    >
      <option value="">{{ s.any }}</option>
      <option v-for="v in s.values" :key="v" :value="v">
        {{ s.name === 'state' ? v.replaceAll('-', ' ') : v }}
      </option>
    </select>
    <template v-if="more || filters.atLeast || filters.atMost">
      <input
        class="filter few"
        type="number"
        min="0"
        placeholder="from"
        aria-label="At least so many learners"
        :value="filters.atLeast"
        @input="(e) => set('atLeast', (e.target as HTMLInputElement).value)"
      />
      <input
        class="filter few"
        type="number"
        min="0"
        placeholder="to"
        aria-label="At most so many learners"
        :value="filters.atMost"
        @input="(e) => set('atMost', (e.target as HTMLInputElement).value)"
      />
    </template>
    <button type="button" class="quiet" :aria-expanded="more" @click="more = !more">
      {{ more ? 'fewer filters' : 'more filters' }}
    </button>
    <button v-if="used.length" type="button" class="quiet" @click="filters = noFilters()">clear</button>
  </div>
  <p v-if="left.length || views.data.value?.length || used.length" class="hidden-by faint">
    <template v-if="views.data.value?.length || used.length">
      <span>Views:</span>
      <button
        v-for="v in views.data.value"
        :key="v.name"
        type="button"
        :aria-pressed="view?.name === v.name"
        @click="filters = { ...noFilters(), ...v.query }"
      >
        {{ v.name }}
      </button>
      <button
        v-if="view"
        type="button"
        @click="save.mutate(views.data.value!.filter((v) => v.name !== view!.name))"
      >
        forget it
      </button>
      <form v-else-if="naming !== undefined" @submit.prevent="keep">
        <input v-model="naming" aria-label="Name of the view" placeholder="its name" />
        <button type="submit">save</button>
      </form>
      <button v-else-if="used.length" type="button" @click="naming = ''">save this one…</button>
    </template>
    <template v-if="left.length">
      <span>Hidden:</span>
      <button
        v-for="l in left"
        :key="l.name"
        type="button"
        :aria-pressed="filters.hidden === l.name"
        @click="set('hidden', filters.hidden === l.name ? '' : l.name)"
      >
        {{ l.name }} {{ l.count }}
      </button>
      <button
        type="button"
        :aria-pressed="filters.hidden === '*'"
        @click="set('hidden', filters.hidden === '*' ? '' : '*')"
      >
        show everything
      </button>
      <button type="button" @click="editing = true">rules…</button>
    </template>
  </p>
  <HidingForm v-if="editing" @close="editing = false" />
</template>

<style scoped>
.bar {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem;
  align-items: center;
  margin-bottom: 0.5rem;
}

.bar input[type='search'] {
  width: 14rem;
}

.few {
  width: 4.6rem;
}

.hidden-by {
  display: flex;
  flex-wrap: wrap;
  gap: 0 0.9rem;
  margin: 0 0 0.5rem;
  font-size: 12.5px;
}

button {
  font: inherit;
  font-size: 12.5px;
  border: 0;
  border-bottom: 2px solid transparent;
  background: none;
  color: var(--faint);
  padding: 0 0 0.1rem;
  cursor: pointer;
}

button[aria-pressed='true'] {
  color: var(--ink);
  border-color: var(--ink);
}

form {
  display: flex;
  gap: 0.4rem;
}

form input {
  font: inherit;
  width: 8rem;
  border: 1px solid var(--line);
}
</style>
