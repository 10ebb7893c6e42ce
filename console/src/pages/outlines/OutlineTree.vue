<script setup lang="ts">
import Button from 'primevue/button'

import type { Schemas } from '../../api/client'
import TextField from '../../parts/form/TextField.vue'
import TickField from '../../parts/form/TickField.vue'
import ActivityRow from './ActivityRow.vue'

/** The modules and activities of an outline, to be edited in place. */
const outline = defineModel<Schemas['Outline']>({ required: true })
const emit = defineEmits<{ edited: [] }>()
function move<T>(list: T[], i: number, by: number) {
  const [x] = list.splice(i, 1)
  list.splice(i + by, 0, x!)
  emit('edited')
}
function percentages(text: string) {
  const all = text.match(/\d+/g)?.map(Number) ?? []
  outline.value.percentages = all.length ? all : undefined
  emit('edited')
}
function addModule() {
  outline.value.modules.push({ id: `m${outline.value.modules.length + 1}`, title: '', activities: [] })
  emit('edited')
}
</script>

<template>
  <p v-if="!outline.modules.length" class="sheet empty faint">{{ $t('outlines.noOutlineYetReadOne') }}</p>
  <fieldset v-for="(m, i) in outline.modules" :key="i" class="sheet" @change="emit('edited')">
    <div class="head">
      <TextField
        v-model="m.title"
        :placeholder="$t('outlines.titleOfModule')"
        hidden
        :label="$t('outlines.module', { i: i + 1 })"
      />
      <TextField v-model="m.id" class="id" hidden :label="$t('outlines.identifierOfModule', { i: i + 1 })" />
      <TickField
        :model-value="!m.optional"
        :label="$t('outlines.required')"
        @update:model-value="(required) => ((m.optional = !required || undefined), emit('edited'))"
      />
      <Button
        size="small"
        variant="text"
        label="↑"
        :disabled="!i"
        :aria-label="$t('outlines.up')"
        @click="move(outline.modules, i, -1)"
      />
      <Button
        size="small"
        variant="text"
        :label="$t('outlines.activity')"
        @click="(m.activities.push({ id: '', title: '', kind: 'lesson' }), emit('edited'))"
      />
      <Button
        size="small"
        variant="text"
        :label="$t('common.remove')"
        @click="(outline.modules.splice(i, 1), emit('edited'))"
      />
    </div>
    <ActivityRow
      v-for="(a, j) in m.activities"
      :key="j"
      :activity="a"
      :depth="0"
      @up="j && move(m.activities, j, -1)"
      @drop="(m.activities.splice(j, 1), emit('edited'))"
      @edited="emit('edited')"
    />
  </fieldset>
  <div class="foot">
    <Button size="small" variant="text" :label="$t('outlines.moduleLabel')" @click="addModule" />
    <TextField
      v-if="outline.modules.length"
      :model-value="outline.percentages?.join(', ')"
      lazy
      :label="$t('outlines.percentagesWhoseCrossingIsEvent')"
      placeholder="25, 50, 75, 100"
      @update:model-value="(text) => percentages(text ?? '')"
    />
  </div>
</template>

<style scoped>
fieldset {
  padding: 0.5rem 0.8rem;
  margin: 0 0 0.6rem;
}

.head {
  display: grid;
  grid-template-columns: 1fr 12rem auto auto auto auto;
  gap: 0.5rem;
  align-items: center;
}

.foot {
  display: flex;
  justify-content: space-between;
  align-items: center;
}

label {
  font-size: 12.5px;
  white-space: nowrap;
}

.id {
  font: 12px/1.5 var(--mono);
}

.empty {
  padding: 1.2rem;
}

@media (max-width: 1000px) {
  .head {
    grid-template-columns: 1fr 1fr auto auto;
  }
}
</style>
