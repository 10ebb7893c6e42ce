<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, ref, useId, watch } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import NumberField from '../../parts/form/NumberField.vue'
import TextField from '../../parts/form/TextField.vue'
import TickField from '../../parts/form/TickField.vue'
import ScheduleField from '../../parts/ScheduleField.vue'
import { $t } from '../../texts'

/** One template: how classes are called, and the policy of their pairings. */
defineProps<{ usual: boolean }>()
const t = defineModel<Schemas['Template']>({ required: true })
const emit = defineEmits<{ drop: []; first: [] }>()
const id = useId()

// What it would call the classes of our own sections, looked up when typing pauses.
const tried = ref(t.value.target)
let pause: ReturnType<typeof setTimeout>
watch(
  () => t.value.target,
  (target) => {
    clearTimeout(pause)
    pause = setTimeout(() => (tried.value = target), 300)
  },
)
const trial = useQuery({
  queryKey: ['templates', 'names', tried],
  queryFn: () => ok(api.GET('/api/v1/templates/names', { params: { query: { target: tried.value } } })),
  enabled: computed(() => tried.value.trim() !== ''),
  retry: false,
})
const clash = computed(() => {
  const { shared = [], unfit = [] } = trial.data.value ?? {}
  const s = shared[0]
  const also = shared.length > 1 ? $t('settings.andMoreNamesAreShared', { shared: shared.length - 1 }) : ''
  return s
    ? $t('settings.classesWouldBeCalled', { sections: s.sections.length, name: s.name, also })
    : unfit[0] && `${unfit[0].section}: ${unfit[0].problem}`
})
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
      <TextField v-model="t.name" :label="$t('common.name')" />
      <TextField v-model="t.target" class="wide" :label="$t('settings.classesAreCalled')">
        <template #help>
          <span v-if="trial.error.value" class="clash">{{ trial.error.value.message }}</span>
          <template v-else
            >{{ trial.data.value?.examples.map((x) => x.name).join(', ') }}
            <span v-if="clash" class="clash">▲ {{ clash }}</span></template
          >
        </template>
      </TextField>
      <ChoiceField
        v-model="t.policy.leavers"
        :label="$t('settings.leavers')"
        :options="[
          { value: 'remove', label: $t('settings.areRemoved') },
          { value: 'deactivate', label: $t('settings.areRemovedAccountSwitchedOff') },
          { value: 'keep', label: $t('settings.stay') },
        ]"
      />
      <TextField v-model="roles" lazy :label="$t('settings.carriesTheseRoles')" />
      <span class="guard"
        ><NumberField
          v-model="t.policy.removalNumber"
          :label="$t('settings.mostRemovals')"
          :min="0" /><NumberField v-model="share" :label="$t('settings.orMost')" :min="0" :max="100"
      /></span>
      <div class="field all">
        <label :for="`schedule-${id}`">{{ $t('common.runsByItself') }}</label>
        <ScheduleField :id="`schedule-${id}`" v-model="t.policy.schedule" />
      </div>
      <TickField v-model="t.policy.hold" :label="$t('settings.holdLearnersUntilOpened')" />
      <TickField v-model="t.policy.notify" :label="$t('settings.notifyNewMembers')" />
      <TickField v-model="t.policy.ownTarget" :label="$t('settings.takeOutWhomKanbanDid')" />
    </div>
    <div class="row">
      <span v-if="usual" class="faint">{{ $t('settings.usualOne') }}</span>
      <template v-else>
        <Button
          type="button"
          size="small"
          variant="text"
          :label="$t('settings.makeItUsualOne')"
          @click="emit('first')"
        />
        <Button type="button" size="small" variant="text" :label="$t('common.drop')" @click="emit('drop')" />
      </template>
    </div>
  </fieldset>
</template>

<style scoped>
.clash {
  color: var(--signal);
}

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

.grid > * {
  margin-bottom: 0;
}

.tick {
  display: flex;
  gap: 0.4rem;
  align-items: center;
}

.row {
  display: flex;
  justify-content: flex-end;
  gap: 0.5rem;
}
</style>
