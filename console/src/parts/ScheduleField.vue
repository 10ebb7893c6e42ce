<script setup lang="ts">
import type { Schemas } from '../api/client'

/** When something runs by itself. */
type Schedule = Schemas['Schedule']
const { id, kinds = ['by-hand', 'after-read', 'every', 'daily'] } = defineProps<{
  id: string
  kinds?: NonNullable<Schedule['kind']>[]
}>()
const s = defineModel<Schedule>()
const words = {
  'by-hand': 'never; somebody runs it',
  'after-read': 'whenever a read of the register changed its people',
  every: 'every so many minutes, and after such a read',
  daily: 'at a time of day',
}
const days = ['monday', 'tuesday', 'wednesday', 'thursday', 'friday', 'saturday', 'sunday']

function be(kind: string) {
  const k = kind as NonNullable<Schedule['kind']>
  s.value = k === 'every' ? { kind: k, minutes: 30 } : k === 'daily' ? { kind: k, at: '06:30' } : { kind: k }
}
function toggle(day: string) {
  const on = s.value?.days ?? []
  const next = on.includes(day)
    ? on.filter((d) => d !== day)
    : days.filter((d) => d === day || on.includes(d))
  s.value = { ...s.value, days: next.length ? next : undefined }
}
</script>

<template>
  <div class="schedule">
    <select :id="id" :value="s?.kind ?? 'by-hand'" @change="be(($event.target as HTMLSelectElement).value)">
      <option v-for="k in kinds" :key="k" :value="k">{{ words[k] }}</option>
    </select>
    <label v-if="s?.kind === 'every'"
      >every
      <input
        type="number"
        min="5"
        max="1440"
        :value="s.minutes"
        aria-label="Minutes"
        @input="s = { ...s, minutes: Number(($event.target as HTMLInputElement).value) }"
      />
      minutes</label
    >
    <template v-if="s?.kind === 'daily'">
      <input
        type="time"
        :value="s.at"
        aria-label="Time of day"
        @input="s = { ...s, at: ($event.target as HTMLInputElement).value }"
      />
      <span class="days" role="group" aria-label="Days; every day when none is chosen">
        <button
          v-for="d in days"
          :key="d"
          type="button"
          :aria-label="d"
          :aria-pressed="!s.days?.length || s.days.includes(d)"
          @click="toggle(d)"
        >
          {{ d.slice(0, 2) }}
        </button>
      </span>
    </template>
  </div>
</template>

<style scoped>
.schedule {
  display: flex;
  width: 100%;
  min-width: 0;
  flex-wrap: wrap;
  gap: 0.3rem 0.6rem;
  align-items: center;
}

select {
  min-width: 0;
  max-width: 100%;
}

input {
  font: inherit;
}

input[type='number'] {
  width: 4.5rem;
}

label {
  font-weight: 400;
}

.days {
  display: inline-flex;
}

button {
  font: inherit;
  font-size: 12px;
  padding: 0.25rem 0.4rem;
  border: 1px solid var(--line);
  border-left-width: 0;
  background: none;
  color: var(--faint);
  cursor: pointer;
}

button:first-child {
  border-left-width: 1px;
}

button[aria-pressed='true'] {
  background: var(--hair);
  color: var(--ink);
}
</style>
