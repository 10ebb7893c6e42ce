<script setup lang="ts">
import Button from 'primevue/button'
import Checkbox from 'primevue/checkbox'
import InputText from 'primevue/inputtext'
import { computed } from 'vue'

import type { Schemas } from '../../api/client'

/** One activity, with what is nested in it. The activity itself is changed in place. */
const props = defineProps<{ activity: Schemas['Activity']; depth: number }>()
const emit = defineEmits<{ up: []; drop: []; edited: [] }>()
const a = computed(() => props.activity)
const mark = computed({
  get: () => (a.value.passMark === undefined ? '' : String(Math.round(a.value.passMark * 1000) / 10)),
  set: (v: string) => (a.value.passMark = v.trim() === '' ? undefined : Number(v) / 100),
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
    <InputText v-model="a.title" size="small" placeholder="Title" aria-label="Title" />
    <InputText
      v-model="a.id"
      size="small"
      class="id"
      placeholder="address under which it is reported"
      aria-label="Address"
    />
    <select v-model="a.kind" aria-label="Kind">
      <option>lesson</option>
      <option>assessment</option>
      <option>assignment</option>
    </select>
    <label
      ><Checkbox
        :model-value="!a.optional"
        binary
        @update:model-value="(required: boolean) => ((a.optional = !required || undefined), emit('edited'))"
      />
      required</label
    >
    <label
      :class="{ idle: !a.activities?.length }"
      title="Done by what is inside it: nothing has to be reported of itself"
      ><Checkbox
        v-model="a.doneByInside"
        binary
        :disabled="!a.activities?.length"
        @update:model-value="emit('edited')"
      />
      by inside</label
    >
    <label
      ><input v-model="mark" class="mark" type="number" aria-label="Pass mark in per cent" placeholder="–" />
      %</label
    >
    <Button size="small" variant="text" label="↑" aria-label="Up" @click="emit('up')" />
    <Button size="small" variant="text" label="+ inside" @click="nest" />
    <Button size="small" variant="text" label="×" aria-label="Remove" @click="emit('drop')" />
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
  grid-template-columns: minmax(6rem, 1fr) minmax(6rem, 1fr) 7.5rem 5.6rem 5.8rem 4.6rem auto auto auto;
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
</style>
