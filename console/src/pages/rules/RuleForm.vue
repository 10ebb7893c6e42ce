<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import { computed, provide, reactive, ref, watch } from 'vue'

import { api, ok, Problem, type Schemas } from '../../api/client'
import { useVersion } from '../../parts/draft'
import Oops from '../../parts/Oops.vue'
import { actions, happening, triggers } from '../../parts/triggers'
import ActionFields from './ActionFields.vue'
import Expression from './Expression.vue'
import { named, sampleEvent } from './sample'
import ScopeFields from './ScopeFields.vue'

type NewRule = Schemas['NewRule']

const props = defineProps<{ edit?: Schemas['Rule'] }>()
const emit = defineEmits<{ close: [] }>()
const queries = useQueryClient()
const made = useVersion(props.edit?.version)
const rule = reactive<NewRule>({
  name: props.edit?.name ?? '',
  trigger: props.edit?.trigger ?? 'section.joined',
  condition: props.edit?.condition ?? '',
  scope: { ...props.edit?.scope },
  stop: props.edit?.stop ?? '',
  oncePerPerson: props.edit?.oncePerPerson ?? true,
  undoneBy: [...(props.edit?.undoneBy ?? [])],
  counts: props.edit?.counts,
  days: props.edit?.days ?? 0,
  quietHours: { ...props.edit?.quietHours },
  limit: { ...props.edit?.limit },
  inOrder: props.edit?.inOrder ?? false,
  actions: structuredClone(JSON.parse(JSON.stringify(props.edit?.actions ?? []))) as NewRule['actions'],
})
const interfaces = useQuery({ queryKey: ['interfaces'], queryFn: () => ok(api.GET('/api/v1/interfaces')) })
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

function add(kind: Schemas['Action']['kind']) {
  const a: Schemas['Action'] = { kind }
  if (kind === 'send-event') a.fields = { email: 'person.email', label: '""' }
  if (kind === 'append-row') a.fields = { who: 'person.name' }
  rule.actions.push(a)
}
const rest = computed(() => triggers.filter((t) => t !== rule.trigger))
const undoing = computed({
  get: () => rule.undoneBy?.[0] ?? '',
  set: (t: string) => (rule.undoneBy = t ? [t] : []),
})

const save = useMutation({
  mutationFn: (toCome?: 'stop' | 'finish') => {
    const body: NewRule = {
      ...rule,
      counts: rule.trigger.startsWith('assessment.') ? (rule.counts ?? undefined) : undefined,
      days: waits.value ? Number(rule.days) : 0,
      limit: rule.limit?.most ? { most: Number(rule.limit.most), per: rule.limit.per ?? 'day' } : {},
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
</script>

<template>
  <Dialog
    :visible="true"
    modal
    :header="edit ? `Edit ${edit.name}` : 'Make a rule'"
    :style="{ width: '52rem' }"
    @update:visible="emit('close')"
  >
    <form @submit.prevent="save.mutate(undefined)">
      <div class="field">
        <label for="rule-name">Name</label>
        <InputText
          id="rule-name"
          v-model="rule.name"
          :invalid="'name' in wrong"
          placeholder="What the rule is for"
        />
      </div>
      <div class="row">
        <div class="field">
          <label for="trigger">When</label>
          <select id="trigger" v-model="rule.trigger">
            <option v-for="t in triggers" :key="t" :value="t">{{ happening(t) }} ({{ t }})</option>
          </select>
        </div>
        <div v-if="waits" class="field">
          <label for="days">After days</label>
          <input id="days" v-model.number="rule.days" type="number" min="1" max="365" />
        </div>
        <label class="once"
          ><input v-model="rule.oncePerPerson" type="checkbox" /> once per person and target</label
        >
      </div>
      <ScopeFields v-model="rule.scope!" />
      <div v-if="samples.data.value?.items.length" class="field">
        <label for="sample">Show what texts give for</label>
        <Select
          v-model="event"
          input-id="sample"
          size="small"
          :options="[
            { id: '', label: 'a made-up event' },
            ...samples.data.value.items.map((e) => ({ id: e.id, label: named(e) })),
          ]"
          option-value="id"
          option-label="label"
        />
      </div>
      <div class="field">
        <label for="condition">If</label>
        <Expression
          id="condition"
          v-model="rule.condition"
          kind="condition"
          :trigger="rule.trigger"
          placeholder="always"
        />
        <small
          >A CEL expression such as <code>event.role == "student"</code>. Type a name and press Tab to
          complete it.</small
        >
      </div>
      <details class="more" :open="!!(rule.stop || undoing || rule.quietHours?.from || rule.limit?.most)">
        <summary>Stop, revert, quiet hours, limit</summary>
        <div class="field">
          <label for="stop">Stop what is still to come if</label>
          <Expression
            id="stop"
            v-model="rule.stop"
            kind="condition"
            :trigger="rule.trigger"
            placeholder="never"
          />
        </div>
        <div v-if="rule.trigger.startsWith('assessment.')" class="field">
          <label for="counts">Of several results of one person counts</label>
          <Select
            v-model="rule.counts"
            input-id="counts"
            size="small"
            show-clear
            :placeholder="undoing ? 'the latest' : 'every one'"
            :options="['latest', 'best', 'first']"
            :option-label="(o: string) => `the ${o}`"
          />
        </div>
        <div class="row">
          <div class="field wide">
            <label for="undone">Reverted by</label>
            <select id="undone" v-model="undoing">
              <option value="">nothing</option>
              <option v-for="t in rest" :key="t" :value="t">{{ happening(t) }} ({{ t }})</option>
            </select>
          </div>
          <div class="field">
            <label for="quiet-from">Quiet from</label>
            <InputText id="quiet-from" v-model="rule.quietHours!.from" placeholder="22:00" />
          </div>
          <div class="field">
            <label for="quiet-to">until</label>
            <InputText id="quiet-to" v-model="rule.quietHours!.to" placeholder="07:00" />
          </div>
          <div class="field">
            <label for="most">At most calls</label>
            <input id="most" v-model.number="rule.limit!.most" type="number" min="0" placeholder="any" />
          </div>
          <div class="field">
            <label for="per">per</label>
            <select id="per" v-model="rule.limit!.per">
              <option value="day">day</option>
              <option value="hour">hour</option>
            </select>
          </div>
        </div>
        <label class="once"
          ><input v-model="rule.inOrder" type="checkbox" /> one after the other per person and
          connection</label
        >
      </details>
      <h2>Then, in this order</h2>
      <ActionFields
        v-for="(_, i) in rule.actions"
        :key="i"
        v-model="rule.actions[i]!"
        :interfaces="interfaces.data.value?.items ?? []"
        :badges="badges.data.value?.items ?? []"
        :number="i + 1"
        :trigger="rule.trigger"
        @remove="rule.actions.splice(i, 1)"
      />
      <div class="actions add">
        <Button
          v-for="(title, kind) in actions"
          :key="kind"
          size="small"
          variant="outlined"
          :label="`+ ${title}`"
          @click="add(kind)"
        />
      </div>
      <Oops :error="save.error.value" :over="(tag) => (made.over(tag), save.mutate(undefined))" />
      <div v-if="wrong.code === 'deliveries-still-to-come'" class="actions">
        <Button type="button" size="small" label="Save, and stop them" @click="save.mutate('stop')" />
        <Button
          type="button"
          size="small"
          variant="outlined"
          label="Save, and let them finish"
          @click="save.mutate('finish')"
        />
      </div>
      <div class="actions">
        <Button type="submit" label="Save" :loading="save.isPending.value" />
        <Button type="button" variant="text" label="Cancel" @click="emit('close')" />
        <span v-if="!edit" class="faint">A new rule is off until you switch it on.</span>
      </div>
    </form>
  </Dialog>
</template>

<style scoped>
.row {
  display: flex;
  gap: 1rem;
  align-items: center;
}

.row .field {
  flex: 1;
}

.row .wide {
  flex: 1.6;
}

.more {
  margin-bottom: 1rem;
}

.more summary {
  cursor: pointer;
  color: var(--faint);
  margin-bottom: 0.5rem;
}

.once {
  white-space: nowrap;
}

.add {
  margin-bottom: 1.2rem;
  flex-wrap: wrap;
}
</style>
