<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, defineAsyncComponent, ref } from 'vue'

import { api, ifMatch, ok, tagOf, type Schemas } from '../../api/client'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import NumberField from '../../parts/form/NumberField.vue'
import TextField from '../../parts/form/TextField.vue'
import { word } from '../../parts/words'
import { mayAll } from '../../shell/may'
import { $t } from '../../texts'
import { noFilters, type Filters } from './sections'

const HidingForm = defineAsyncComponent(() => import('./HidingForm.vue'))

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
  { name: 'term' as const, any: $t('sections.everyTerm'), values: props.choices?.terms, rare: false },
  { name: 'state' as const, any: $t('sections.everyState'), values: states, rare: false },
  { name: 'course' as const, any: $t('sections.everyCourse'), values: props.choices?.courses, rare: true },
  { name: 'teacher' as const, any: $t('sections.everyTeacher'), values: props.choices?.teachers, rare: true },
  {
    name: 'organisation' as const,
    any: $t('sections.everyOrganisation'),
    values: props.choices?.organisations,
    rare: true,
  },
  { name: 'service' as const, any: $t('sections.everyService'), values: props.choices?.services, rare: true },
  { name: 'role' as const, any: $t('sections.everyRole'), values: props.choices?.roles, rare: true },
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
    <TextField
      :model-value="filters.text"
      type="search"
      :placeholder="$t('sections.titleCourseOrTeacher')"
      hidden
      :label="$t('common.find')"
      @update:model-value="(text) => set('text', text ?? '')"
    />
    <ChoiceField
      v-for="s in shown"
      :key="s.name"
      :model-value="filters[s.name]"
      hidden
      :label="s.name"
      :options="[
        { value: '', label: s.any },
        ...(s.values ?? []).map((v) => ({
          value: v,
          label: s.name === 'state' ? word(v) : v,
        })),
      ]"
      @update:model-value="(value) => set(s.name, value ?? '')"
    />
    <template v-if="more || filters.atLeast || filters.atMost">
      <NumberField
        class="few"
        :min="0"
        :placeholder="$t('sections.from')"
        hidden
        :label="$t('sections.atLeastSoManyLearners')"
        :model-value="filters.atLeast ? Number(filters.atLeast) : undefined"
        @update:model-value="(many) => set('atLeast', many === undefined ? '' : String(many))"
      />
      <NumberField
        class="few"
        :min="0"
        :placeholder="$t('sections.to')"
        hidden
        :label="$t('sections.atMostSoManyLearners')"
        :model-value="filters.atMost ? Number(filters.atMost) : undefined"
        @update:model-value="(many) => set('atMost', many === undefined ? '' : String(many))"
      />
    </template>
    <Button unstyled type="button" class="quiet" :aria-expanded="more" @click="more = !more">
      {{ more ? $t('sections.fewerFilters') : $t('sections.moreFilters') }}
    </Button>
    <Button v-if="used.length" unstyled type="button" class="quiet" @click="filters = noFilters()">{{
      $t('sections.clear')
    }}</Button>
  </div>
  <p v-if="left.length || views.data.value?.length || used.length" class="hidden-by faint">
    <template v-if="views.data.value?.length || used.length">
      <span>{{ $t('sections.views') }}</span>
      <Button
        v-for="v in views.data.value"
        :key="v.name"
        unstyled
        type="button"
        :aria-pressed="view?.name === v.name"
        @click="filters = { ...noFilters(), ...v.query }"
      >
        {{ v.name }}
      </Button>
      <Button
        v-if="view"
        unstyled
        type="button"
        @click="save.mutate(views.data.value!.filter((v) => v.name !== view!.name))"
      >
        {{ $t('sections.forgetIt') }}
      </Button>
      <form v-else-if="naming !== undefined" @submit.prevent="keep">
        <TextField
          v-model="naming"
          :placeholder="$t('sections.itsName')"
          hidden
          :label="$t('sections.nameOfView')"
        />
        <Button unstyled type="submit">{{ $t('sections.save') }}</Button>
      </form>
      <Button v-else-if="used.length" unstyled type="button" @click="naming = ''">{{
        $t('sections.saveThisOne')
      }}</Button>
    </template>
    <template v-if="left.length">
      <span>{{ $t('sections.hidden') }}</span>
      <Button
        v-for="l in left"
        :key="l.name"
        unstyled
        type="button"
        :aria-pressed="filters.hidden === l.name"
        @click="set('hidden', filters.hidden === l.name ? '' : l.name)"
      >
        {{ l.name }} {{ l.count }}
      </Button>
      <Button
        unstyled
        type="button"
        :aria-pressed="filters.hidden === '*'"
        @click="set('hidden', filters.hidden === '*' ? '' : '*')"
      >
        {{ $t('sections.showEverything') }}
      </Button>
      <Button v-if="mayAll('settings')" unstyled type="button" @click="editing = true">{{
        $t('sections.rules')
      }}</Button>
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
</style>
