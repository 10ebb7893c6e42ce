<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, provide, reactive, ref, watch } from 'vue'

import { api, ok, Problem, type Schemas } from '../../api/client'
import { useVersion } from '../../parts/draft'
import Fold from '../../parts/Fold.vue'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import FormDialog from '../../parts/form/FormDialog.vue'
import ManyField from '../../parts/form/ManyField.vue'
import NumberField from '../../parts/form/NumberField.vue'
import TextField from '../../parts/form/TextField.vue'
import TickField from '../../parts/form/TickField.vue'
import WhenField from '../../parts/form/WhenField.vue'
import { actions, triggerChoices } from '../../parts/triggers'
import { $t } from '../../texts'
import { useInterfaces } from '../connections/interface'
import ActionFields from './ActionFields.vue'
import Expression from './Expression.vue'
import { named, sampleEvent } from './sample'
import ScopeFields from './ScopeFields.vue'

type NewRule = Schemas['NewRule']
type Action = Schemas['Action']

const props = defineProps<{ edit?: Schemas['Rule'] }>()
const emit = defineEmits<{ close: [] }>()
const queries = useQueryClient()
const made = useVersion(props.edit?.version)
const copy = <T,>(x: T) => JSON.parse(JSON.stringify(x)) as T

/** What a rule says, as the form holds it. */
const typedOf = (r?: Schemas['Rule']) => ({
  name: r?.name ?? '',
  trigger: r?.trigger ?? ('section.joined' as NewRule['trigger']),
  condition: r?.condition ?? '',
  scope: { ...r?.scope },
  stop: r?.stop ?? '',
  oncePerPerson: r?.oncePerPerson ?? true,
  undoneBy: [...(r?.undoneBy ?? [])],
  counts: r?.counts,
  days: r?.days || undefined,
  quietHours: { from: '', to: '', ...r?.quietHours },
  limit: { per: 'day' as const, ...r?.limit, most: r?.limit?.most || undefined },
  inOrder: r?.inOrder ?? false,
})
const rule = reactive(typedOf(props.edit))
// Each action keeps what belongs to it, wherever in the list it stands.
let keys = 0
const steps = ref(copy(props.edit?.actions ?? []).map((action) => ({ key: keys++, action })))
const all = computed(() => ({ ...rule, actions: steps.value.map((s) => s.action) }))

const interfaces = useInterfaces()
const badges = useQuery({ queryKey: ['badges'], queryFn: () => ok(api.GET('/api/v1/badges')) })

// Events of these happen because some days have passed.
const waits = computed(() => ['person.inactive', 'person.not-begun'].includes(rule.trigger))

// A real event that fits shows what conditions and texts give.
const event = ref('')
provide(sampleEvent, event)
const samples = useQuery({
  queryKey: ['samples', () => rule.trigger, () => ({ ...rule.scope })],
  queryFn: () =>
    ok(
      api.GET('/api/v1/triggers/{trigger}/samples', {
        params: { path: { trigger: rule.trigger }, query: { ...rule.scope } },
      }),
    ),
})
watch(
  () => rule.trigger,
  () => (event.value = ''),
  { flush: 'sync' },
)
watch(
  () => samples.data.value,
  (page) => {
    if (event.value && !page?.items.some((e) => e.id === event.value)) event.value = ''
  },
)
const sampleChoices = computed(() => [
  { value: '', label: $t('rules.madeUpEvent') },
  ...(samples.data.value?.items ?? []).map((e) => ({ value: e.id, label: named(e) })),
])

function add(kind: Action['kind']) {
  const action: Action = { kind }
  if (kind === 'send-event') action.fields = { email: 'person.email', label: '""' }
  if (kind === 'append-row') action.fields = { who: 'person.name' }
  steps.value.push({ key: keys++, action })
}
function move(from: number, by: 1 | -1) {
  const [step] = steps.value.splice(from, 1)
  steps.value.splice(from + by, 0, step!)
}

const save = useMutation({
  mutationFn: (toCome?: 'stop' | 'finish') => {
    const body: NewRule = {
      ...all.value,
      counts: rule.trigger.startsWith('assessment.') ? (rule.counts ?? undefined) : undefined,
      days: waits.value ? (rule.days ?? 0) : 0,
      quietHours: rule.quietHours.from || rule.quietHours.to ? rule.quietHours : {},
      limit: rule.limit.most ? { most: rule.limit.most, per: rule.limit.per } : {},
    }
    return props.edit
      ? ok(
          api.PUT('/api/v1/rules/{id}', {
            params: { path: { id: props.edit.id }, header: made.header.value, query: { toCome } },
            body,
          }),
        )
      : ok(api.POST('/api/v1/rules', { body }))
  },
  onSuccess: async () => {
    await queries.invalidateQueries({ queryKey: ['rules'] })
    emit('close')
  },
})
const wrong = computed(() => (save.error.value instanceof Problem ? save.error.value.fields : {}))
async function now() {
  const r = await ok(api.GET('/api/v1/rules/{id}', { params: { path: { id: props.edit!.id } } }))
  return { ...typedOf(r), actions: r.actions }
}
</script>

<template>
  <FormDialog
    :title="edit ? $t('common.editName', { name: edit.name }) : $t('rules.newRule')"
    width="54rem"
    :submit="$t('common.save')"
    :sending="save.isPending.value"
    :error="save.error.value"
    :over="(tag) => (made.over(tag), save.mutate(undefined))"
    :typed="all"
    :now="edit && now"
    @submit="save.mutate(undefined)"
    @close="emit('close')"
  >
    <TextField
      id="rule-name"
      v-model="rule.name"
      :label="$t('common.name')"
      name="name"
      :placeholder="$t('rules.whatRuleIsFor')"
      required
    />
    <div class="row">
      <ChoiceField
        id="trigger"
        v-model="rule.trigger"
        :label="$t('rules.whenLabel')"
        name="trigger"
        :options="triggerChoices"
      />
      <NumberField
        v-if="waits"
        id="days"
        v-model="rule.days"
        :label="$t('rules.afterDays')"
        name="days"
        :min="1"
        :max="365"
      />
      <TickField v-model="rule.oncePerPerson" :label="$t('rules.oncePerPersonAndTarget')" />
    </div>
    <ScopeFields v-model="rule.scope" />
    <ChoiceField
      v-if="samples.data.value?.items.length"
      id="sample"
      v-model="event"
      :label="$t('rules.showWhatTextsGiveFor')"
      :options="sampleChoices"
    />
    <div class="field">
      <label id="condition-label" for="condition">{{ $t('rules.ifLabel') }}</label>
      <Expression
        id="condition"
        v-model="rule.condition"
        kind="condition"
        :trigger="rule.trigger"
        :placeholder="$t('rules.always')"
      />
      <small
        ><i18n-t keypath="rules.celExpressionSuchAsType" scope="global"
          ><template #eventRoleStudent><code>event.role == "student"</code></template></i18n-t
        ></small
      >
    </div>
    <Fold
      :title="$t('rules.stopRevertQuietHoursLimit')"
      :open="!!(rule.stop || rule.undoneBy.length || rule.quietHours.from || rule.limit.most)"
    >
      <div class="field">
        <label id="stop-label" for="stop">{{ $t('rules.stopWhatIsStillTo') }}</label>
        <Expression
          id="stop"
          v-model="rule.stop"
          kind="condition"
          :trigger="rule.trigger"
          :placeholder="$t('common.never')"
        />
      </div>
      <ChoiceField
        v-if="rule.trigger.startsWith('assessment.')"
        id="counts"
        v-model="rule.counts"
        :label="$t('rules.ofSeveralResultsOfOneLabel')"
        name="counts"
        clear
        :placeholder="rule.undoneBy.length ? $t('rules.latest') : $t('rules.everyOne')"
        :options="
          ([$t('rules.latestWord'), $t('rules.best'), $t('rules.first')] as const).map((value) => ({
            value,
            label: $t('rules.the', { value }),
          }))
        "
      />
      <div class="row">
        <ManyField
          id="undone"
          v-model="rule.undoneBy"
          class="wide"
          :label="$t('rules.revertedByLabel')"
          name="undoneBy"
          :placeholder="$t('common.nothing')"
          :options="triggerChoices.filter((t) => t.value !== rule.trigger)"
        />
        <WhenField
          id="quiet-from"
          v-model="rule.quietHours.from"
          of="time"
          :label="$t('rules.quietFrom')"
          name="quietHours.from"
        />
        <WhenField
          id="quiet-to"
          v-model="rule.quietHours.to"
          of="time"
          :label="$t('rules.until')"
          name="quietHours.to"
        />
        <NumberField
          id="most"
          v-model="rule.limit.most"
          :label="$t('rules.atMostCalls')"
          name="limit.most"
          :min="0"
          :placeholder="$t('rules.any')"
        />
        <ChoiceField
          id="per"
          v-model="rule.limit.per"
          :label="$t('rules.per')"
          :options="([$t('rules.day'), $t('rules.hour')] as const).map((value) => ({ value, label: value }))"
        />
      </div>
      <TickField v-model="rule.inOrder" :label="$t('rules.oneAfterOtherPerPerson')" />
    </Fold>
    <h2>{{ $t('rules.thenInThisOrder') }}</h2>
    <ActionFields
      v-for="(s, i) in steps"
      :key="s.key"
      v-model="s.action"
      :interfaces="interfaces.data.value?.items ?? []"
      :badges="badges.data.value?.items ?? []"
      :number="i + 1"
      :of="steps.length"
      :at="`actions[${i}]`"
      :handle="`${s.key}`"
      :trigger="rule.trigger"
      :reverted="rule.undoneBy.length > 0"
      @remove="steps.splice(i, 1)"
      @move="(by) => move(i, by)"
    />
    <div class="actions add">
      <Button
        v-for="(title, kind) in actions"
        :key="kind"
        type="button"
        size="small"
        variant="outlined"
        :label="`+ ${title}`"
        @click="add(kind)"
      />
    </div>
    <div v-if="wrong.code === 'deliveries-still-to-come'" class="actions">
      <Button type="button" size="small" :label="$t('rules.saveAndStopThem')" @click="save.mutate('stop')" />
      <Button
        type="button"
        size="small"
        variant="outlined"
        :label="$t('rules.saveAndLetThemFinish')"
        @click="save.mutate('finish')"
      />
    </div>
    <template #beside
      ><span v-if="!edit" class="faint">{{ $t('rules.newRuleIsOffUntil') }}</span></template
    >
  </FormDialog>
</template>

<style scoped>
.row {
  display: flex;
  gap: 1rem;
  align-items: flex-start;
}

.row > * {
  flex: 1;
  min-width: 0;
}

.row .wide {
  flex: 2;
}

.row .tick {
  margin-top: 1.7rem;
  white-space: nowrap;
}

.add {
  margin-bottom: 1.2rem;
  flex-wrap: wrap;
}
</style>
