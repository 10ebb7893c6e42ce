<script setup lang="ts">
import { useId } from 'vue'

import type { Schemas } from '../../api/client'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import TextField from '../../parts/form/TextField.vue'
import TickField from '../../parts/form/TickField.vue'
import ScheduleField from '../../parts/ScheduleField.vue'
import { word } from '../../parts/words'
import { $t } from '../../texts'

/** What is set once for a score link, or for all that begin with a template. */
const policy = defineModel<Schemas['ScorePolicy']>({ required: true })
const id = useId()
const flags = ['exempt', 'incomplete', 'late', 'missing', 'not submitted']
const flagOptions = [
  { value: 'keep', label: $t('scores.flagKeep') },
  { value: 'zero', label: $t('scores.flagZero') },
  { value: 'blank', label: $t('scores.flagBlank') },
  { value: 'drop', label: $t('scores.flagDrop') },
]
const flagOf = (f: string) => {
  const rule = policy.value.flags?.[f]
  return rule?.drop ? 'drop' : (rule?.value ?? 'keep')
}
function setFlag(f: string, v?: string) {
  if (!v) return
  policy.value.flags = {
    ...policy.value.flags,
    [f]: v === 'drop' ? { value: 'keep', drop: true } : { value: v as 'keep' | 'zero' | 'blank' },
  }
}
</script>

<template>
  <div class="two">
    <div>
      <h2>{{ $t('scores.whatIsCarried') }}</h2>
      <ChoiceField
        v-model="policy.content"
        name="policy.content"
        :label="$t('scores.content')"
        :options="[
          { value: 'scores', label: $t('scores.contentScores') },
          { value: 'completions', label: $t('scores.contentCompletions') },
          { value: 'nothing', label: $t('scores.contentNothing') },
        ]"
      />
      <ChoiceField
        v-model="policy.mode"
        name="policy.mode"
        :label="$t('scores.mode')"
        :options="[
          { value: 'fill-and-update', label: $t('scores.modeFill') },
          { value: 'blanks-only', label: $t('scores.modeBlanks') },
          { value: 'replace', label: $t('scores.modeReplace') },
        ]"
      />
      <TickField v-model="policy.comments" :label="$t('scores.carryComments')" />
      <TickField v-model="policy.withoutPoints" :label="$t('scores.withoutPoints')" />
      <h2>{{ $t('scores.flags') }}</h2>
      <div class="flags">
        <ChoiceField
          v-for="f in flags"
          :key="f"
          :model-value="flagOf(f)"
          :label="word(`flag-${f.replaceAll(' ', '-')}`)"
          :options="flagOptions"
          @update:model-value="(v) => setFlag(f, v)"
        />
      </div>
    </div>
    <div>
      <h2>{{ $t('scores.datesAndPeriods') }}</h2>
      <ChoiceField
        v-model="policy.basis"
        name="policy.basis"
        :label="$t('scores.basis')"
        :options="[
          { value: 'due', label: $t('scores.dueDate') },
          { value: 'assigned', label: $t('scores.assignedDate') },
        ]"
      />
      <TextField
        v-model="policy.periodKind"
        name="policy.periodKind"
        code
        :label="$t('scores.periodKind')"
        :help="$t('scores.periodKindHelp')"
      />
      <h2>{{ $t('common.runsByItself') }}</h2>
      <ScheduleField
        :id="`${id}-schedule`"
        v-model="policy.schedule"
        :kinds="['by-hand', 'every', 'daily']"
      />
    </div>
  </div>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 0 2rem;
}

.flags {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 0 1rem;
}

@media (max-width: 760px) {
  .two {
    grid-template-columns: 1fr;
  }
}
</style>
