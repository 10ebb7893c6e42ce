<script setup lang="ts">
import Button from 'primevue/button'
import { computed } from 'vue'

import type { Schemas } from '../../api/client'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import NumberField from '../../parts/form/NumberField.vue'
import TextField from '../../parts/form/TextField.vue'
import TickField from '../../parts/form/TickField.vue'

/** One activity, with what is nested in it. The activity itself is changed in place. */
const props = defineProps<{ activity: Schemas['Activity']; depth: number }>()
const emit = defineEmits<{ up: []; drop: []; edited: [] }>()
const a = computed(() => props.activity)
const mark = computed({
  get: () => (a.value.passMark === undefined ? undefined : Math.round(a.value.passMark * 1000) / 10),
  set: (v: number | undefined) => (a.value.passMark = v === undefined ? undefined : v / 100),
})
function nest() {
  a.value.activities = [...(a.value.activities ?? []), { id: '', title: '', kind: 'assessment' }]
  emit('edited')
}
function drop(i: number) {
  a.value.activities = a.value.activities?.filter((_, j) => j !== i)
  if (!a.value.activities?.length) a.value.doneByInside = undefined
  emit('edited')
}
</script>

<template>
  <div class="activity" :style="{ marginLeft: `${depth * 1.5}rem` }">
    <TextField v-model="a.title" :placeholder="$t('outlines.title')" hidden :label="$t('outlines.title')" />
    <TextField
      v-model="a.id"
      :placeholder="$t('outlines.addressUnderWhichItIs')"
      class="id"
      hidden
      :label="$t('common.address')"
    />
    <ChoiceField
      v-model="a.kind"
      hidden
      :label="$t('common.kind')"
      :options="[
        { value: 'lesson', label: $t('outlines.lesson') },
        { value: 'assessment', label: $t('outlines.assessment') },
        { value: 'assignment', label: $t('outlines.assignment') },
      ]"
    />
    <TickField
      :model-value="!a.optional"
      :label="$t('outlines.required')"
      @update:model-value="(required) => ((a.optional = !required || undefined), emit('edited'))"
    />
    <TickField
      v-model="a.doneByInside"
      :class="{ idle: !a.activities?.length }"
      :title="$t('outlines.doneByWhatIsInside')"
      :label="$t('outlines.byInside')"
      :disabled="!a.activities?.length"
      @update:model-value="emit('edited')"
    />
    <label
      ><NumberField
        v-model="mark"
        placeholder="–"
        class="mark"
        :digits="1"
        hidden
        :label="$t('outlines.passMarkInPerCent')"
      />
      %</label
    >
    <Button size="small" variant="text" label="↑" :aria-label="$t('outlines.up')" @click="emit('up')" />
    <Button size="small" variant="text" :label="$t('outlines.inside')" @click="nest" />
    <Button size="small" variant="text" label="×" :aria-label="$t('common.remove')" @click="emit('drop')" />
  </div>
  <ActivityRow
    v-for="(n, i) in a.activities"
    :key="i"
    :activity="n"
    :depth="depth + 1"
    @drop="drop(i)"
    @edited="emit('edited')"
  />
</template>

<style scoped>
.activity {
  display: grid;
  grid-template-columns: minmax(6rem, 1fr) minmax(6rem, 1fr) 8.8rem 5.6rem 5.8rem 4.6rem auto auto auto;
  gap: 0.4rem;
  align-items: center;
  padding: 0.15rem 0;
}

.id {
  font: 12px/1.5 var(--mono);
}

.mark {
  width: 3.4rem;
}

.idle {
  visibility: hidden;
}

label,
.activity :deep(button) {
  font-size: 12.5px;
  white-space: nowrap;
}

.activity :deep(button) {
  padding-inline: 0.35rem;
}

@media (max-width: 1000px) {
  .activity {
    grid-template-columns: 1fr 1fr 7.5rem;
    padding-bottom: 0.6rem;
  }
}
</style>
