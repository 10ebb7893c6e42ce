<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import { useOutline } from '../../parts/outline'

/** Where a rule applies: anywhere, or in one course, section, module or activity. */
const scope = defineModel<NonNullable<Schemas['NewRule']['scope']>>({ required: true })
const courses = useQuery({ queryKey: ['courses'], queryFn: () => ok(api.GET('/api/v1/courses')) })
const course = computed(() => scope.value.course || undefined)
const title = computed(() => courses.data.value?.items.find((c) => c.id === course.value)?.title)
const sections = useQuery({
  queryKey: ['sections', 'of-course', title],
  queryFn: () =>
    ok(
      api.GET('/api/v1/sections', {
        params: { query: { course: title.value ?? '', aside: '*', limit: 200 } },
      }),
    ),
  enabled: computed(() => !!title.value),
})
const { outline, modules, activitiesOf } = useOutline(course)
const activities = computed(() => activitiesOf(scope.value.module || undefined))
/** What is chosen but stands in no list, so that it is never lost unseen. */
const unknown = (id: string | undefined, list: { id: string }[]) => id && !list.some((x) => x.id === id)

function choose(name: 'course' | 'section' | 'module' | 'activity', event: Event) {
  const id = (event.target as HTMLSelectElement).value || undefined
  if (name === 'course') scope.value = { course: id }
  else if (name === 'module') scope.value = { ...scope.value, module: id, activity: undefined }
  else scope.value = { ...scope.value, [name]: id }
}
</script>

<template>
  <div class="scope">
    <div class="field">
      <label for="scope-course">Only in course</label>
      <select id="scope-course" :value="scope.course ?? ''" @change="choose('course', $event)">
        <option value="">any</option>
        <option v-for="c in courses.data.value?.items" :key="c.id" :value="c.id">{{ c.title }}</option>
      </select>
    </div>
    <div v-if="course || scope.section" class="field">
      <label for="scope-section">section</label>
      <select id="scope-section" :value="scope.section ?? ''" @change="choose('section', $event)">
        <option value="">any</option>
        <option v-if="unknown(scope.section, sections.data.value?.items ?? [])" :value="scope.section">
          the one chosen before
        </option>
        <option v-for="x in sections.data.value?.items" :key="x.id" :value="x.id">
          {{ x.title }} · {{ x.code }}
        </option>
      </select>
    </div>
    <div v-if="course || scope.module" class="field">
      <label for="scope-module">module</label>
      <select id="scope-module" :value="scope.module ?? ''" @change="choose('module', $event)">
        <option value="">any</option>
        <option v-if="unknown(scope.module, modules)" :value="scope.module">{{ scope.module }}</option>
        <option v-for="m in modules" :key="m.id" :value="m.id">{{ m.title || m.id }}</option>
      </select>
    </div>
    <div v-if="course || scope.activity" class="field">
      <label for="scope-activity">activity</label>
      <select id="scope-activity" :value="scope.activity ?? ''" @change="choose('activity', $event)">
        <option value="">any</option>
        <option v-if="unknown(scope.activity, activities)" :value="scope.activity">
          {{ scope.activity }}
        </option>
        <option v-for="a in activities" :key="a.id" :value="a.id">{{ a.title || a.id }}</option>
      </select>
    </div>
    <small v-if="course && outline.data.value && !modules.length" class="faint"
      >The course has no outline yet. <RouterLink :to="`/outlines/${course}`">Set one</RouterLink> to choose
      modules and activities.</small
    >
  </div>
</template>

<style scoped>
.scope {
  display: grid;
  grid-template-columns: repeat(4, minmax(0, 1fr));
  gap: 0 1rem;
}

small {
  grid-column: 1 / -1;
  margin: -0.5rem 0 0.8rem;
}
</style>
