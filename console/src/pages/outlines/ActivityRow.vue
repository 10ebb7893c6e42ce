<script setup lang="ts">
import Button from 'primevue/button'
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
      ><input
        :checked="!a.optional"
        type="checkbox"
        @change="a.optional = !($event.target as HTMLInputElement).checked"
      />
      required</label
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
  grid-template-columns: 1fr 1fr 8.5rem 5.5rem 5rem auto auto auto;
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

label {
  font-size: 12.5px;
  white-space: nowrap;
}
</style>
