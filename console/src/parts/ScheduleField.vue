<script setup lang="ts">
import Button from 'primevue/button'

import type { Schemas } from '../api/client'
import { $t } from '../texts'
import ChoiceField from './form/ChoiceField.vue'
import NumberField from './form/NumberField.vue'
import WhenField from './form/WhenField.vue'

/** When something runs by itself. */
type Schedule = Schemas['Schedule']
const { id, kinds = ['by-hand', 'after-read', 'every', 'daily'] } = defineProps<{
  id: string
  kinds?: NonNullable<Schedule['kind']>[]
}>()
const s = defineModel<Schedule>()
const words = {
  'by-hand': $t('parts.neverSomebodyRunsIt'),
  'after-read': $t('parts.wheneverReadOfRegisterChanged'),
  every: $t('parts.everySoManyMinutesAnd'),
  daily: $t('parts.atTimeOfDay'),
}
const days = ['monday', 'tuesday', 'wednesday', 'thursday', 'friday', 'saturday', 'sunday']

function be(k: NonNullable<Schedule['kind']>) {
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
    <ChoiceField
      :id="id"
      :model-value="s?.kind ?? 'by-hand'"
      hidden
      :label="$t('common.runsByItself')"
      :options="kinds.map((k) => ({ value: k, label: words[k] }))"
      @update:model-value="(k) => k && be(k)"
    />
    <span v-if="s?.kind === 'every'"
      ><i18n-t keypath="parts.everyMinutes" scope="global"
        ><template #number
          ><NumberField
            class="minutes"
            :min="5"
            :max="1440"
            :model-value="s.minutes"
            hidden
            :label="$t('parts.minutes')"
            @update:model-value="(minutes) => (s = { ...s, minutes })" /></template></i18n-t
    ></span>
    <template v-if="s?.kind === 'daily'">
      <WhenField
        class="at"
        of="time"
        :model-value="s.at"
        hidden
        :label="$t('parts.timeOfDay')"
        @update:model-value="(at) => (s = { ...s, at })"
      />
      <span class="days" role="group" :aria-label="$t('parts.daysEveryDayWhenNone')">
        <Button
          v-for="d in days"
          :key="d"
          unstyled
          type="button"
          :aria-pressed="!s.days?.length || s.days.includes(d)"
          @click="toggle(d)"
        >
          {{ d.slice(0, 2) }}<span class="aside">{{ d.slice(2) }}</span>
        </Button>
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

.minutes {
  width: 4.5rem;
}

.at {
  width: 7rem;
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
