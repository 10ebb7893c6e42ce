<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import { computed, useId } from 'vue'

import type { Schemas } from '../../api/client'
import ScheduleField from '../../parts/ScheduleField.vue'

/** One template: how classes are called, and the policy of their pairings. */
defineProps<{ usual: boolean }>()
const t = defineModel<Schemas['Template']>({ required: true })
const emit = defineEmits<{ drop: []; first: [] }>()
const id = useId()

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
const roles = computed({
  get: () => t.value.policy.roles.join(', '),
  set: (text) =>
    (t.value.policy.roles = text
      .split(',')
      .map((r) => r.trim())
      .filter(Boolean)),
})
const share = computed({
  get: () => Math.round(t.value.policy.removalShare * 100),
  set: (n) => (t.value.policy.removalShare = n / 100),
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
      <label>Carries these roles <InputText v-model.lazy="roles" size="small" /></label>
      <span class="guard"
        ><label
          >Stop above removals <input v-model.number="t.policy.removalNumber" type="number" min="0" /></label
        ><label>or % of the class <input v-model.number="share" type="number" min="0" max="100" /></label
      ></span>
      <label class="all" :for="`schedule-${id}`"
        >Runs by itself <ScheduleField :id="`schedule-${id}`" v-model="t.policy.schedule"
      /></label>
      <label class="tick"><input v-model="t.policy.hold" type="checkbox" /> hold learners until opened</label>
      <label class="tick"><input v-model="t.policy.notify" type="checkbox" /> let newcomers be told</label>
      <label class="tick"
        ><input v-model="t.policy.ownTarget" type="checkbox" /> take out whom Kanban did not put in</label
      >
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

.all {
  grid-column: 1 / -1;
}

.guard {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 0.6rem;
}

label {
  display: grid;
  min-width: 0;
  font-size: 12.5px;
  align-content: start;
}

.tick {
  display: flex;
  gap: 0.4rem;
  align-items: center;
}

select,
input[type='number'] {
  width: 100%;
  min-width: 0;
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
