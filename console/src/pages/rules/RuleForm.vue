<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import { computed, reactive } from 'vue'

import { api, ok, Problem, type Schemas } from '../../api/client'
import Oops from '../../parts/Oops.vue'
import { triggers } from '../../parts/triggers'
import ActionFields from './ActionFields.vue'

type NewRule = Schemas['NewRule']

const props = defineProps<{ edit?: Schemas['Rule'] }>()
const emit = defineEmits<{ close: [] }>()
const queries = useQueryClient()
const rule = reactive<NewRule>({
  name: props.edit?.name ?? '',
  trigger: props.edit?.trigger ?? 'section.joined',
  condition: props.edit?.condition ?? '',
  scope: { ...props.edit?.scope },
  once: props.edit?.once ?? true,
  actions: structuredClone(JSON.parse(JSON.stringify(props.edit?.actions ?? []))) as NewRule['actions'],
})
const connections = useQuery({ queryKey: ['connections'], queryFn: () => ok(api.GET('/api/v1/connections')) })
const badges = useQuery({ queryKey: ['badges'], queryFn: () => ok(api.GET('/api/v1/badges')) })

function add(kind: 'send' | 'mail' | 'award') {
  const of = (k: string) => connections.data.value?.items.find((c) => c.kind === k)?.id ?? ''
  if (kind === 'send')
    rule.actions.push({ kind, connectionId: of('webhook'), fields: { email: 'person.email', label: '""' } })
  if (kind === 'mail') rule.actions.push({ kind, connectionId: of('smtp'), subject: '', text: '' })
  if (kind === 'award') rule.actions.push({ kind, badgeId: badges.data.value?.items[0]?.id ?? '' })
}

const save = useMutation({
  mutationFn: () => {
    const body: NewRule = {
      ...rule,
      scope: { ...rule.scope, module: rule.scope?.module?.trim() || undefined },
    }
    return props.edit
      ? ok(
          api.PUT('/api/v1/rules/{id}', {
            params: { path: { id: props.edit.id }, header: { 'If-Match': `"${props.edit.version}"` } },
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
    :style="{ width: '44rem' }"
    @update:visible="emit('close')"
  >
    <form @submit.prevent="save.mutate()">
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
            <option v-for="t in triggers" :key="t">{{ t }}</option>
          </select>
        </div>
        <div class="field">
          <label for="module">Only for module</label>
          <InputText id="module" v-model="rule.scope!.module" placeholder="any" />
        </div>
        <label class="once"><input v-model="rule.once" type="checkbox" /> once per person</label>
      </div>
      <div class="field">
        <label for="condition">If</label>
        <InputText
          id="condition"
          v-model="rule.condition"
          placeholder="always"
          class="code"
          :invalid="'condition' in wrong"
        />
        <small
          >A CEL expression over event, person, section, course, module and activity, such as
          <code>event.role == "student"</code></small
        >
      </div>
      <h2>Then, in this order</h2>
      <ActionFields
        v-for="(a, i) in rule.actions"
        :key="i"
        v-model="rule.actions[i]!"
        :connections="connections.data.value?.items ?? []"
        :badges="badges.data.value?.items ?? []"
        :number="i + 1"
        :kind="a.kind"
        @remove="rule.actions.splice(i, 1)"
      />
      <div class="actions add">
        <Button size="small" variant="outlined" label="+ signed event" @click="add('send')" />
        <Button size="small" variant="outlined" label="+ mail" @click="add('mail')" />
        <Button size="small" variant="outlined" label="+ badge" @click="add('award')" />
      </div>
      <Oops :error="save.error.value" />
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
  display: grid;
  grid-template-columns: 1fr 1fr auto;
  gap: 1rem;
  align-items: center;
}

.once {
  white-space: nowrap;
}

.code {
  font: 13px/1.5 var(--mono);
}

.add {
  margin-bottom: 1.2rem;
}
</style>
