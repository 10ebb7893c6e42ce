<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { reactive } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import { useVersion } from '../../parts/draft'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import Frame from '../../parts/form/Frame.vue'
import TextField from '../../parts/form/TextField.vue'
import TickField from '../../parts/form/TickField.vue'
import Oops from '../../parts/Oops.vue'
import Found from './Found.vue'
import StageFields from './StageFields.vue'

/** Making or changing a stage plan. */
const props = defineProps<{ edit?: Schemas['StagePlan'] }>()
const emit = defineEmits<{ close: []; saved: [p: Schemas['StagePlan']] }>()
const queries = useQueryClient()
const made = useVersion(props.edit?.version)
const courses = useQuery({ queryKey: ['courses'], queryFn: () => ok(api.GET('/api/v1/courses')) })
const blank = (): Schemas['Stage'] => ({ title: '', criteria: [{ kind: 'module' }] })
const p = reactive<Schemas['NewStagePlan']>({
  name: props.edit?.name ?? '',
  courseId: props.edit?.courseId ?? '',
  anyOrder: props.edit?.anyOrder ?? false,
  stages: props.edit ? (JSON.parse(JSON.stringify(props.edit.stages)) as Schemas['Stage'][]) : [blank()],
})
const preview = useMutation({
  mutationFn: () => ok(api.POST('/api/v1/stage-plans/preview', { body: { ...p, id: props.edit?.id } })),
})
const save = useMutation({
  mutationFn: () =>
    props.edit
      ? ok(
          api.PUT('/api/v1/stage-plans/{id}', {
            params: { path: { id: props.edit.id }, header: made.header.value },
            body: p,
          }),
        )
      : ok(api.POST('/api/v1/stage-plans', { body: p })),
  onSuccess: async (saved) => {
    await queries.invalidateQueries()
    emit('close')
    emit('saved', saved)
  },
})
const up = (i: number) => p.stages.splice(i - 1, 0, ...p.stages.splice(i, 1))
</script>

<template>
  <Frame
    :of="save"
    :title="edit ? $t('common.editName', { name: edit.name }) : $t('stages.makeStagePlan')"
    width="52rem"
    @close="emit('close')"
  >
    <form @submit.prevent="save.mutate()" @input="preview.reset()">
      <div class="row">
        <TextField id="stage-plan-name" v-model="p.name" name="name" autofocus :label="$t('common.name')" />
        <ChoiceField
          id="stage-plan-course"
          v-model="p.courseId"
          name="courseId"
          :disabled="!!edit"
          :label="$t('common.course')"
          :options="(courses.data.value?.items ?? []).map((c) => ({ value: c.id, label: c.title }))"
        />
      </div>
      <template v-if="p.courseId">
        <StageFields
          v-for="(_, i) in p.stages"
          :key="i"
          v-model="p.stages[i]!"
          :number="i + 1"
          :last="p.stages.length === 1"
          :course="p.courseId"
          @up="up(i)"
          @drop="p.stages.splice(i, 1)"
        />
        <TickField v-model="p.anyOrder" :label="$t('stages.inAnyOrder')" />
        <p class="faint">
          {{ p.anyOrder ? $t('stages.stageIsReachedInAnyOrder') : $t('stages.stageIsReachedWhenAll') }}
        </p>
        <Button
          size="small"
          variant="outlined"
          :label="$t('stages.stageLabel')"
          @click="p.stages.push(blank())"
        />
      </template>
      <p v-else class="faint">{{ $t('stages.chooseCourseFirstItIs') }}</p>
      <Oops
        :error="save.error.value ?? preview.error.value"
        :over="(tag) => (made.over(tag), save.mutate())"
      />
      <Found v-if="preview.data.value" :preview="preview.data.value" />
      <div class="actions end">
        <Button type="submit" :label="$t('common.save')" :loading="save.isPending.value" />
        <Button
          type="button"
          variant="outlined"
          :label="$t('stages.whomWouldItFind')"
          :loading="preview.isPending.value"
          @click="preview.mutate()"
        />
        <Button type="button" variant="text" :label="$t('common.cancel')" @click="emit('close')" />
      </div>
    </form>
  </Frame>
</template>

<style scoped>
.row {
  display: flex;
  gap: 1rem;
}

.row > * {
  flex: 1;
}

.end {
  margin-top: 1rem;
}

p {
  margin: 0.4rem 0;
}
</style>
