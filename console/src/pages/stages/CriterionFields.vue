<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import { useOutline } from '../../parts/outline'

/** One thing that a stage asks for. */
const c = defineModel<Schemas['Criterion']>({ required: true })
const props = defineProps<{ course: string; badges: Schemas['Badge'][]; name: string }>()
const emit = defineEmits<{ drop: [] }>()
const courses = useQuery({ queryKey: ['courses'], queryFn: () => ok(api.GET('/api/v1/courses')) })
const of = computed(() => c.value.courseId || props.course)
const { outline, modules, activitiesOf } = useOutline(of)
const activities = computed(() => activitiesOf())
const kinds = {
  module: 'finish the module',
  course: 'finish the course',
  score: 'score in',
  badge: 'hold the badge',
}
const elsewhere = computed({
  get: () => c.value.courseId ?? '',
  set: (id: string) => {
    c.value.courseId = id || undefined
    c.value.moduleId = c.value.activityId = undefined
  },
})
const percent = computed({
  get: () => Math.round((c.value.atLeast ?? 0) * 1000) / 10,
  set: (n: number) => (c.value.atLeast = n / 100),
})
function kind(event: Event) {
  const kind = (event.target as HTMLSelectElement).value as Schemas['Criterion']['kind']
  c.value = {
    kind,
    courseId: kind === 'badge' ? undefined : c.value.courseId,
    atLeast: kind === 'score' ? 0.8 : undefined,
  }
}
const without = computed(
  () => c.value.kind !== 'badge' && outline.data.value && !outline.data.value.modules.length,
)
</script>

<template>
  <div class="criterion">
    <select :value="c.kind" :aria-label="`Criterion ${name}`" @change="kind">
      <option v-for="(text, k) in kinds" :key="k" :value="k">{{ text }}</option>
    </select>
    <select v-if="c.kind === 'module'" v-model="c.moduleId" :aria-label="`Module ${name}`">
      <option v-for="m in modules" :key="m.id" :value="m.id">
        {{ m.title || m.id }}
      </option>
    </select>
    <template v-if="c.kind === 'score'">
      <select v-model="c.activityId" :aria-label="`Activity ${name}`">
        <option v-for="a in activities" :key="a.id" :value="a.id">{{ a.title || a.id }}</option>
      </select>
      at least
      <input v-model.number="percent" type="number" min="-100" max="100" :aria-label="`Per cent ${name}`" /> %
    </template>
    <select v-if="c.kind === 'badge'" v-model="c.badgeId" :aria-label="`Badge ${name}`">
      <option v-for="b in badges" :key="b.id" :value="b.id">{{ b.name }}</option>
    </select>
    <select v-else v-model="elsewhere" :aria-label="`Course ${name}`">
      <option value="">of this course</option>
      <option
        v-for="x in courses.data.value?.items.filter((x) => x.id !== props.course)"
        :key="x.id"
        :value="x.id"
      >
        of {{ x.title }}
      </option>
    </select>
    <Button
      size="small"
      variant="text"
      label="×"
      :aria-label="`Remove criterion ${name}`"
      @click="emit('drop')"
    />
    <small v-if="without" class="faint"
      >The course has no outline yet. <RouterLink :to="`/outlines/${of}`">Set one</RouterLink></small
    >
  </div>
</template>

<style scoped>
.criterion {
  display: flex;
  gap: 0.5rem;
  align-items: center;
  margin-top: 0.35rem;
  flex-wrap: wrap;
}

select,
input {
  font: inherit;
  padding: 0.3rem;
  border: 1px solid var(--line);
  background: var(--sheet);
  max-width: 16rem;
}

input {
  width: 4.5rem;
}
</style>
