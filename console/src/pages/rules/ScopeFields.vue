<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'

import { api, every, ok, type Schemas } from '../../api/client'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import { useOutline } from '../../parts/outline'
import { $t } from '../../texts'

/** Where a rule applies: anywhere, or in one course, section, module or activity. */
const scope = defineModel<NonNullable<Schemas['NewRule']['scope']>>({ required: true })
const courses = useQuery({ queryKey: ['courses'], queryFn: () => ok(api.GET('/api/v1/courses')) })
const course = computed(() => scope.value.course || undefined)
const sections = useQuery({
  queryKey: ['sections', 'of-course', course],
  queryFn: () =>
    every((cursor) =>
      ok(
        api.GET('/api/v1/sections', {
          params: { query: { course: course.value, hidden: '*', limit: 1000, cursor } },
        }),
      ),
    ),
  enabled: computed(() => !!course.value),
})
const { outline, modules, activitiesOf } = useOutline(course)
const activities = computed(() => activitiesOf(scope.value.module || undefined))
type Part = 'course' | 'section' | 'module' | 'activity'
type Choice = { id: string; title: string }

/** The choosers: one for a course, and those within it once there is one. */
const choosers = computed(() =>
  (
    [
      ['course', $t('rules.onlyInCourse'), courses.data.value?.items],
      [
        'section',
        'section',
        sections.data.value?.map((x) => ({ id: x.id, title: `${x.title} · ${x.code}` })),
      ],
      ['module', 'module', modules.value],
      ['activity', 'activity', activities.value],
    ] as [Part, string, Choice[] | undefined][]
  )
    .filter(([part]) => part === 'course' || course.value || scope.value[part])
    .map(([part, label, list = []]) => {
      const chosen = scope.value[part] ?? ''
      // What is chosen but stands in no list, so that it is never lost unseen.
      const unlisted = chosen !== '' && !list.some((x) => x.id === chosen)
      const before = part === 'course' || part === 'section' ? $t('rules.oneChosenBefore') : chosen
      const options = [
        { value: '', label: $t('rules.any') },
        ...(unlisted ? [{ value: chosen, label: before }] : []),
        ...list.map((x) => ({ value: x.id, label: x.title || x.id })),
      ]
      return { part, label, chosen, options }
    }),
)

function choose(part: Part, id: string | undefined) {
  if (part === 'course') scope.value = { course: id }
  else if (part === 'module') scope.value = { ...scope.value, module: id, activity: undefined }
  else scope.value = { ...scope.value, [part]: id }
}
</script>

<template>
  <div class="scope">
    <ChoiceField
      v-for="c in choosers"
      :id="`scope-${c.part}`"
      :key="c.part"
      :model-value="c.chosen"
      :label="c.label"
      :options="c.options"
      @update:model-value="(id) => choose(c.part, id || undefined)"
    />
    <small v-if="course && outline.data.value && !modules.length" class="faint"
      ><i18n-t keypath="rules.courseHasNoOutlineYet" scope="global"
        ><template #setOne
          ><RouterLink :to="`/outlines/${course}`">{{ $t('rules.setOne') }}</RouterLink></template
        ></i18n-t
      ></small
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
