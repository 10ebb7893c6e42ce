<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import NumberField from '../../parts/form/NumberField.vue'
import TextField from '../../parts/form/TextField.vue'
import { useOutline } from '../../parts/outline'
import { $t } from '../../texts'

/** One thing that a stage asks for, or a badge, which is of no course (course is '' then). */
const c = defineModel<Schemas['Criterion']>({ required: true })
const props = defineProps<{ course: string; badges: Schemas['Badge'][]; name: string }>()
const emit = defineEmits<{ drop: [] }>()
const courses = useQuery({ queryKey: ['courses'], queryFn: () => ok(api.GET('/api/v1/courses')) })
const of = computed(() => c.value.courseId || props.course)
const { outline, modules, activitiesOf } = useOutline(of)
const activities = computed(() => activitiesOf())
const kinds = {
  module: $t('stages.finishModule'),
  course: $t('stages.finishCourse'),
  score: $t('stages.scoreIn'),
  badge: $t('stages.holdBadge'),
  approval: $t('stages.somebodyApproves'),
  all: $t('stages.allOf'),
  any: $t('stages.anyOf'),
  some: $t('stages.someOf'),
}
const groups = computed(() => ['all', 'any', 'some'].includes(c.value.kind))
const add = () => (c.value.of ??= []).push({ kind: 'module' })
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
type Kind = Schemas['Criterion']['kind']
function kind(kind: Kind) {
  if (['all', 'any', 'some'].includes(kind)) {
    // What stands there already becomes the first of the group; a group keeps what is in it.
    const of = groups.value ? c.value.of : [{ ...c.value }, { kind: 'module' as const }]
    c.value = { kind, of, need: kind === 'some' ? 1 : undefined }
    return
  }
  c.value = {
    kind,
    courseId: kind === 'badge' || kind === 'approval' ? undefined : c.value.courseId,
    what: kind === 'approval' ? '' : undefined,
    atLeast: kind === 'score' ? 0.8 : undefined,
  }
}
const without = computed(
  () =>
    !groups.value &&
    !['badge', 'approval'].includes(c.value.kind) &&
    outline.data.value &&
    !outline.data.value.modules.length,
)
</script>

<template>
  <div class="criterion">
    <ChoiceField
      :model-value="c.kind"
      hidden
      :label="$t('stages.criterion', { name })"
      :options="
        Object.entries(kinds)
          .filter(([value]) => props.course || value !== 'approval')
          .map(([value, label]) => ({ value: value as Kind, label }))
      "
      @update:model-value="(k) => k && kind(k)"
    />
    <ChoiceField
      v-if="c.kind === 'module'"
      v-model="c.moduleId"
      hidden
      :label="$t('stages.module', { name })"
      :options="modules.map((m) => ({ value: m.id, label: m.title || m.id }))"
    />
    <template v-if="c.kind === 'score'">
      <ChoiceField
        v-model="c.activityId"
        hidden
        :label="$t('stages.activity', { name })"
        :options="activities.map((a) => ({ value: a.id, label: a.title || a.id }))"
      />
      {{ $t('stages.atLeast') }}
      <NumberField v-model="percent" :min="-100" :max="100" hidden :label="$t('stages.perCent', { name })" />
      %
    </template>
    <ChoiceField
      v-if="c.kind === 'badge'"
      v-model="c.badgeId"
      hidden
      :label="$t('stages.badge', { name })"
      :options="badges.map((b) => ({ value: b.id, label: b.name }))"
    />
    <TextField
      v-else-if="c.kind === 'approval'"
      v-model="c.what"
      hidden
      :placeholder="$t('stages.whatPlaceholder')"
      :label="$t('stages.what', { name })"
    />
    <ChoiceField
      v-else-if="!groups"
      v-model="elsewhere"
      hidden
      :label="$t('stages.course', { name })"
      :options="[
        ...(props.course ? [{ value: '', label: $t('stages.ofThisCourse') }] : []),
        ...(courses.data.value?.items.filter((x) => x.id !== props.course) ?? []).map((x) => ({
          value: x.id,
          label: $t('stages.of', { title: x.title }),
        })),
      ]"
    />
    <NumberField
      v-if="c.kind === 'some'"
      v-model="c.need"
      :min="1"
      :max="c.of?.length ?? 1"
      hidden
      :label="$t('stages.howMany', { name })"
    />
    <Button
      size="small"
      variant="text"
      label="×"
      :aria-label="$t('stages.removeCriterion', { name })"
      @click="emit('drop')"
    />
    <small v-if="without" class="faint"
      >{{ $t('stages.courseHasNoOutlineYet') }}
      <RouterLink :to="`/outlines/${of}`">{{ $t('stages.setOne') }}</RouterLink></small
    >
    <div v-if="groups" class="group">
      <CriterionFields
        v-for="(_, i) in c.of"
        :key="i"
        v-model="c.of![i]!"
        :course="course"
        :badges="badges"
        :name="`${name}.${i + 1}`"
        @drop="c.of!.splice(i, 1)"
      />
      <Button
        size="small"
        variant="text"
        :label="$t('stages.criterionLabel')"
        :aria-label="$t('stages.criterionIn', { name })"
        @click="add"
      />
    </div>
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

.group {
  flex-basis: 100%;
  border-inline-start: 2px solid var(--line);
  padding-inline-start: 0.9rem;
}
</style>
