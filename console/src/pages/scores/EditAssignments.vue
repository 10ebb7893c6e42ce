<script setup lang="ts">
import { useMutation, useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import FormDialog from '../../parts/form/FormDialog.vue'
import { $t } from '../../texts'

/** Changes many assignments at once; what is left at "as it is" stays. */
const props = defineProps<{ link: Schemas['ScoreLink']; chosen: Schemas['Assignment'][] }>()
const emit = defineEmits<{ close: []; done: [] }>()
const same = '\0'
const category = ref(same)
const period = ref(same)
const basis = ref(same)
const content = ref(same)
const activity = ref(same)
const path = computed(() => ({ path: { id: props.link.id } }))
const categories = useQuery({
  queryKey: ['score-links', () => props.link.id, 'categories'],
  queryFn: () => ok(api.GET('/api/v1/score-links/{id}/categories', { params: path.value })),
})
const periods = useQuery({
  queryKey: ['score-links', () => props.link.id, 'periods'],
  queryFn: () => ok(api.GET('/api/v1/score-links/{id}/periods', { params: path.value })),
})
// One assignment in all its sections can be one activity.
const one = computed(() => new Set(props.chosen.map((a) => a.source.id)).size === 1)
const activities = useQuery({
  queryKey: ['score-links', () => props.link.id, 'activities'],
  queryFn: () => ok(api.GET('/api/v1/score-links/{id}/activities', { params: path.value })),
  enabled: one,
})
const first = [
  { value: same, label: $t('scores.asItIs') },
  { value: '', label: $t('scores.asLinkHasIt') },
]
const said = (v: string) => (v === same ? undefined : v)
const save = useMutation({
  mutationFn: () =>
    ok(
      api.PATCH('/api/v1/score-links/{id}/assignments', {
        params: path.value,
        body: {
          ids: props.chosen.map((a) => a.id),
          category: said(category.value),
          period: said(period.value),
          basis: said(basis.value),
          content: said(content.value),
          activity: said(activity.value),
        },
      }),
    ),
  onSuccess: () => emit('done'),
})
</script>

<template>
  <FormDialog
    :title="$t('scores.editAssignments', { n: chosen.length }, chosen.length)"
    :submit="$t('common.save')"
    :sending="save.isPending.value"
    :error="save.error.value ?? categories.error.value ?? periods.error.value ?? activities.error.value"
    :typed="{ category, period, basis, content, activity }"
    @submit="save.mutate()"
    @close="emit('close')"
  >
    <ChoiceField
      v-model="category"
      name="category"
      :label="$t('scores.categoryInBook')"
      :options="[
        ...first,
        ...(categories.data.value?.book ?? []).map((c) => ({ value: c.id, label: c.title })),
      ]"
    />
    <ChoiceField
      v-model="period"
      name="period"
      :label="$t('scores.period')"
      :help="$t('scores.periodHelp')"
      :options="[
        ...first,
        ...(periods.data.value?.items ?? []).map((p) => ({ value: p.id, label: p.title })),
      ]"
    />
    <ChoiceField
      v-model="basis"
      name="basis"
      :label="$t('scores.basis')"
      :options="[
        ...first,
        { value: 'due', label: $t('scores.dueDate') },
        { value: 'assigned', label: $t('scores.assignedDate') },
      ]"
    />
    <ChoiceField
      v-model="content"
      name="content"
      :label="$t('scores.content')"
      :options="[
        ...first,
        { value: 'scores', label: $t('scores.contentScores') },
        { value: 'completions', label: $t('scores.contentCompletions') },
        { value: 'nothing', label: $t('scores.contentNothing') },
      ]"
    />
    <ChoiceField
      v-if="activities.data.value?.items.length"
      v-model="activity"
      name="activity"
      :label="$t('scores.activity')"
      :help="$t('scores.activityHelp')"
      :options="[
        { value: same, label: $t('scores.asItIs') },
        { value: '', label: $t('scores.noActivity') },
        ...activities.data.value.items.map((a) => ({ value: a.id, label: a.title, apart: a.module })),
      ]"
    />
  </FormDialog>
</template>
