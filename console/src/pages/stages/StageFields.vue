<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import TextField from '../../parts/form/TextField.vue'
import TickField from '../../parts/form/TickField.vue'
import CriterionFields from './CriterionFields.vue'

/** One stage that is being written. */
const stage = defineModel<Schemas['Stage']>({ required: true })
const props = defineProps<{ number: number; last: boolean; course: string }>()
const emit = defineEmits<{ up: []; drop: [] }>()
const badges = useQuery({ queryKey: ['badges'], queryFn: () => ok(api.GET('/api/v1/badges')) })
const badge = computed({
  get: () => stage.value.badgeId ?? '',
  set: (id: string) => (stage.value.badgeId = id || undefined),
})
const add = () => stage.value.criteria.push({ kind: 'module' })
</script>

<template>
  <fieldset>
    <legend>{{ $t('stages.stage', { number: props.number }) }}</legend>
    <div class="row">
      <TextField
        v-model="stage.title"
        :placeholder="$t('stages.title')"
        hidden
        :label="$t('stages.titleOfStage', { number })"
      />
      <TickField v-model="stage.optional" :label="$t('stages.optional')" />
      <label
        >{{ $t('stages.gives') }}
        <ChoiceField
          v-model="badge"
          hidden
          :label="$t('stages.badgeOfStage', { number })"
          :options="[
            { value: '', label: $t('stages.noBadge') },
            ...(badges.data.value?.items ?? []).map((b) => ({ value: b.id, label: b.name })),
          ]"
        />
      </label>
      <Button
        v-if="number > 1"
        size="small"
        variant="text"
        label="↑"
        :aria-label="$t('stages.stageEarlier', { number })"
        @click="emit('up')"
      />
      <Button
        v-if="!last || number > 1"
        size="small"
        variant="text"
        label="×"
        :aria-label="$t('stages.removeStage', { number })"
        @click="emit('drop')"
      />
    </div>
    <CriterionFields
      v-for="(_, i) in stage.criteria"
      :key="i"
      v-model="stage.criteria[i]!"
      :course="course"
      :badges="badges.data.value?.items ?? []"
      :name="`${number}.${i + 1}`"
      @drop="stage.criteria.splice(i, 1)"
    />
    <Button size="small" variant="text" :label="$t('stages.criterionLabel')" @click="add" />
  </fieldset>
</template>

<style scoped>
fieldset {
  border: 1px solid var(--line);
  margin: 0 0 0.7rem;
  padding: 0.3rem 0.8rem 0.4rem;
}

legend {
  font-weight: 600;
  font-size: 12px;
  color: var(--faint);
}

.row {
  display: flex;
  gap: 0.9rem;
  align-items: center;
}

.row > :first-child {
  flex: 1;
}
</style>
