<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import { computed } from 'vue'

import type { Schemas } from '../../api/client'

/** One template: how classes are called, and the policy of their pairings. */
defineProps<{ usual: boolean }>()
const t = defineModel<Schemas['Template']>({ required: true })
const emit = defineEmits<{ drop: []; first: [] }>()

// A made-up section shows what the name looks like.
const example: Record<string, string> = {
  section: 'Propagation A',
  code: 'PROP-A',
  course: 'Propagation',
  courseCode: 'PROP',
  term: 'First term',
  teacher: 'Maud Marrow',
  organisation: 'Fernmoor Garden School',
}
const name = computed(() => t.value.target.replace(/\{(\w+)\}/g, (all, f: string) => example[f] ?? all))
const schedule = computed({
  get: () => {
    const s = t.value.policy.schedule
    return s?.kind === 'every' ? `every ${s.minutes}` : s?.kind === 'daily' ? 'daily' : (s?.kind ?? 'by-hand')
  },
  set: (v) => {
    t.value.policy.schedule = v.startsWith('every')
      ? { kind: 'every', minutes: Number(v.slice(6)) }
      : v === 'daily'
        ? { kind: 'daily', at: t.value.policy.schedule?.at || '06:30' }
        : { kind: v as 'by-hand' | 'after-read' }
  },
})
</script>

<template>
  <fieldset class="sheet">
    <div class="grid">
      <label>Name <InputText v-model="t.name" size="small" /></label>
      <label class="wide"
        >Classes are called <InputText v-model="t.target" size="small" />
        <small class="faint">such as: {{ name }}</small></label
      >
      <label
        >Leavers
        <select v-model="t.policy.leavers">
          <option value="remove">come out</option>
          <option value="deactivate">come out, account off</option>
          <option value="keep">stay</option>
        </select></label
      >
      <label
        >Runs by itself
        <select v-model="schedule">
          <option value="by-hand">by hand only</option>
          <option value="after-read">after reads</option>
          <option value="every 30">every 30 minutes</option>
          <option value="every 60">every hour</option>
          <option value="daily">daily</option>
        </select></label
      >
      <label v-if="schedule === 'daily'">at <input v-model="t.policy.schedule!.at" type="time" /></label>
      <label class="tick"><input v-model="t.policy.hold" type="checkbox" /> hold learners until opened</label>
      <label class="tick"><input v-model="t.policy.notify" type="checkbox" /> let newcomers be told</label>
      <label class="tick"
        ><input v-model="t.policy.ownTarget" type="checkbox" /> take out whom Kanban did not put in</label
      >
      <label
        >Stop above removals <input v-model.number="t.policy.removalNumber" type="number" min="0"
      /></label>
    </div>
    <div class="row">
      <span v-if="usual" class="faint">● the usual one</span>
      <template v-else>
        <Button
          type="button"
          size="small"
          variant="text"
          label="Make it the usual one"
          @click="emit('first')"
        />
        <Button type="button" size="small" variant="text" label="Drop" @click="emit('drop')" />
      </template>
    </div>
  </fieldset>
</template>

<style scoped>
fieldset {
  border: 1px solid var(--line);
  padding: 0.7rem 0.9rem;
  margin: 0 0 0.7rem;
}

.grid {
  display: grid;
  grid-template-columns: repeat(3, 1fr);
  gap: 0.5rem 1rem;
}

.wide {
  grid-column: span 2;
}

label {
  display: grid;
  font-size: 12.5px;
  align-content: start;
}

.tick {
  display: flex;
  gap: 0.4rem;
  align-items: center;
}

select,
input[type='number'],
input[type='time'] {
  font: inherit;
  padding: 0.3rem;
  border: 1px solid var(--line);
  background: var(--sheet);
}

.row {
  display: flex;
  justify-content: flex-end;
  gap: 0.5rem;
}
</style>
