<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import RadioButton from 'primevue/radiobutton'
import { computed, ref, watch } from 'vue'

import { api, every, ok, type Schemas } from '../../api/client'
import { useVersion } from '../../parts/draft'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import Frame from '../../parts/form/Frame.vue'
import TextField from '../../parts/form/TextField.vue'
import Oops from '../../parts/Oops.vue'
import PeoplePick from '../../parts/PeoplePick.vue'

/** Makes a list of people, or changes one; who is on it now is shown. */
const props = defineProps<{ edit?: Schemas['PeopleList'] }>()
const emit = defineEmits<{ close: [] }>()
const queries = useQueryClient()
const kind = ref<Schemas['NewPeopleList']['kind']>(props.edit?.kind ?? 'course')
const name = ref(props.edit?.name ?? '')
const of = ref('')
watch(kind, () => (of.value = ''))
const on = ref<{ id: string; name: string }[]>([])
const courses = useQuery({ queryKey: ['courses'], queryFn: () => ok(api.GET('/api/v1/courses')) })
const orgs = useQuery({
  queryKey: ['organisations'],
  queryFn: () =>
    every((cursor) => ok(api.GET('/api/v1/organisations', { params: { query: { cursor, limit: 1000 } } }))),
})
const choices = computed(() =>
  kind.value === 'course'
    ? (courses.data.value?.items ?? []).map((c) => ({ value: c.id, label: `${c.title} · ${c.code}` }))
    : (orgs.data.value ?? []).map((o) => ({ value: o.id, label: `${o.name} · ${o.type}` })),
)
const now = useQuery({
  queryKey: ['sections', 'lists', props.edit?.id, 'people'],
  queryFn: () =>
    every((cursor) =>
      ok(
        api.GET('/api/v1/people-lists/{id}/people', {
          params: { path: { id: props.edit!.id }, query: { cursor, limit: 1000 } },
        }),
      ),
    ),
  enabled: !!props.edit,
})
// Who was on it when the dialog was opened, whatever comes in later.
const before = ref<string[]>()
watch(now.data, (all) => {
  if (!all || before.value || props.edit?.kind !== 'named') return
  before.value = all.map((p) => p.personId)
  on.value = all.map((p) => ({ id: p.personId, name: p.name }))
})
const made = useVersion(props.edit?.version)
const save = useMutation({
  mutationFn: () => {
    const ids = on.value.map((p) => p.id)
    if (!props.edit)
      return ok(
        api.POST('/api/v1/people-lists', {
          body: {
            kind: kind.value,
            ofId: of.value,
            name: name.value,
            people: kind.value === 'named' ? ids : [],
          },
        }),
      )
    const was = before.value ?? []
    return ok(
      api.PATCH('/api/v1/people-lists/{id}', {
        params: { path: { id: props.edit.id }, header: made.header.value },
        body: {
          name: name.value,
          add: ids.filter((id) => !was.includes(id)),
          drop: was.filter((id) => !ids.includes(id)),
        },
      }),
    )
  },
  onSuccess: async () => {
    await queries.invalidateQueries({ queryKey: ['sections'] })
    emit('close')
  },
})
const ready = computed(() =>
  props.edit
    ? !!name.value && (kind.value !== 'named' || !!before.value)
    : kind.value === 'named'
      ? on.value.length && name.value
      : of.value,
)
</script>

<template>
  <Frame
    :of="save"
    :title="edit ? $t('sections.change', { name: edit.name }) : $t('sections.newPeopleList')"
    width="36rem"
    @close="emit('close')"
  >
    <form @submit.prevent="save.mutate()">
      <div v-if="!edit" class="field kinds" role="radiogroup" :aria-label="$t('sections.whoseList')">
        <label><RadioButton v-model="kind" value="course" /> {{ $t('sections.everybodyOfCourse') }}</label>
        <label
          ><RadioButton v-model="kind" value="organisation" />
          {{ $t('sections.everybodyOfOrganisation') }}</label
        >
        <label><RadioButton v-model="kind" value="named" /> {{ $t('sections.peopleIName') }}</label>
      </div>
      <ChoiceField
        v-if="!edit && kind !== 'named'"
        id="list-of"
        v-model="of"
        name="ofId"
        :label="kind === 'course' ? $t('common.course') : $t('sections.organisation')"
        :options="choices"
      />
      <TextField
        id="list-name"
        v-model="name"
        name="name"
        :placeholder="kind === 'named' ? '' : $t('sections.thatOfCourseOrOrganisation')"
        :label="$t('common.name')"
      />
      <PeoplePick v-if="kind === 'named'" v-model="on" />
      <p v-else-if="edit" class="faint">
        {{ $t('sections.peopleAreOnItNow', { data: now.data.value?.length ?? '…' }) }}
      </p>
      <Oops
        :error="save.error.value ?? now.error.value ?? orgs.error.value ?? courses.error.value"
        :over="(tag) => (made.over(tag), save.mutate())"
      />
      <div class="actions">
        <Button
          type="submit"
          :label="edit ? $t('sections.changeIt') : $t('sections.makeList')"
          :disabled="!ready"
          :loading="save.isPending.value"
        />
        <Button type="button" variant="text" :label="$t('common.cancel')" @click="emit('close')" />
      </div>
    </form>
  </Frame>
</template>

<style scoped>
.kinds {
  display: grid;
  gap: 0.3rem;
}

.kinds label {
  display: flex;
  gap: 0.4rem;
  font-weight: 400;
}
</style>
