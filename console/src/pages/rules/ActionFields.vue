<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import { computed, watch } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import { actions } from '../../parts/triggers'
import OneSection from '../../parts/OneSection.vue'
import Choices from './Choices.vue'
import Expression from './Expression.vue'
import Fields from './Fields.vue'

/** The values of one action of a rule. */
const action = defineModel<Schemas['Action']>({ required: true })
const props = defineProps<{
  interfaces: Schemas['Interface'][]
  badges: Schemas['Badge'][]
  number: number
  trigger: string
}>()
defineEmits<{ remove: [] }>()

const kinds: Partial<Record<Schemas['Action']['kind'], string[]>> = {
  'send-event': ['webhook'],
  mail: ['smtp'],
  'call-operation': ['http-api'],
  enrol: ['scim', 'oneroster-delta'],
  unenrol: ['scim', 'oneroster-delta'],
  'add-to-group': ['scim'],
  'take-from-group': ['scim'],
}
const fitting = computed(() => {
  const wanted = kinds[action.value.kind]
  return wanted && props.interfaces.filter((c) => wanted.includes(c.kind))
})
// What there is only one of, or comes first, is taken until somebody chooses another, also
// when the lists come later than the click.
watch(
  [fitting, () => props.badges],
  ([list, badges]) => {
    const a = action.value
    if (list?.length && !a.interfaceId) a.interfaceId = list[0]!.id
    if (a.kind === 'award' && badges.length && !a.badgeId) a.badgeId = badges[0]!.id
  },
  { immediate: true },
)
const operations = useQuery({
  queryKey: ['operations', () => action.value.interfaceId],
  queryFn: () =>
    ok(
      api.GET('/api/v1/interfaces/{id}/operations', {
        params: { path: { id: action.value.interfaceId ?? '' } },
      }),
    ),
  enabled: computed(() => action.value.kind === 'call-operation' && !!action.value.interfaceId),
})
const operation = computed(() => operations.data.value?.find((o) => o.name === action.value.operation))
const id = (name: string) => `${name}-${props.number}`
</script>

<template>
  <fieldset class="sheet">
    <legend>{{ number }}. {{ actions[action.kind] }}</legend>
    <Button class="remove" size="small" variant="text" label="Remove" @click="$emit('remove')" />
    <div class="row first">
      <div v-if="fitting" class="field">
        <label :for="id('via')">Interface</label>
        <select :id="id('via')" v-model="action.interfaceId">
          <option v-for="c in fitting" :key="c.id" :value="c.id">{{ c.name }}</option>
        </select>
        <small v-if="!fitting.length">No such interface yet; add one first.</small>
      </div>
      <div v-if="action.kind === 'award'" class="field">
        <label :for="id('badge')">Badge</label>
        <select :id="id('badge')" v-model="action.badgeId">
          <option v-for="b in badges" :key="b.id" :value="b.id">{{ b.name }}</option>
        </select>
        <small v-if="!badges.length">No badge yet; make one first.</small>
      </div>
      <div v-if="action.kind === 'call-operation'" class="field">
        <label :for="id('operation')">Operation</label>
        <select :id="id('operation')" v-model="action.operation">
          <option v-for="o in operations.data.value" :key="o.name" :value="o.name">{{ o.title }}</option>
        </select>
      </div>
      <div v-if="action.kind === 'enrol' || action.kind === 'unenrol'" class="field">
        <label :for="id('section')">Section</label>
        <OneSection v-model="action.sectionId" :input-id="id('section')" label="Section" />
        <small>Empty: the event’s own.</small>
      </div>
      <div v-if="action.kind === 'append-row'" class="field">
        <label :for="id('sheet')">Sheet</label>
        <InputText :id="id('sheet')" v-model="action.sheet" />
      </div>
      <div class="field narrow">
        <label :for="id('after')">After</label>
        <InputText :id="id('after')" v-model="action.after" placeholder="at once" />
        <small>90m, 2h, 3d</small>
      </div>
    </div>
    <div class="field">
      <label :for="id('if')">Only if, when its time has come</label>
      <Expression
        :id="id('if')"
        v-model="action.if"
        kind="condition"
        :trigger="trigger"
        placeholder="always"
      />
    </div>
    <Fields
      v-if="['send-event', 'call-operation', 'append-row'].includes(action.kind)"
      v-model="action"
      :number="number"
      :trigger="trigger"
      :known="operation?.fields"
      :interface-id="action.interfaceId"
      :operation="action.kind === 'call-operation' ? action.operation : undefined"
    />
    <div v-if="action.kind.endsWith('-group')" class="field">
      <label :for="id('group')">Group</label>
      <Expression :id="id('group')" v-model="action.group" kind="template" :trigger="trigger" />
      <Choices
        v-if="action.interfaceId"
        :interface-id="action.interfaceId"
        label="Group"
        @choose="(v) => (action.group = v)"
      />
    </div>
    <template v-if="action.kind === 'mail' || action.kind === 'task'">
      <div class="field">
        <label :for="id('subject')">{{ action.kind === 'task' ? 'What is to be done' : 'Subject' }}</label>
        <Expression :id="id('subject')" v-model="action.subject" kind="template" :trigger="trigger" />
      </div>
      <div class="field">
        <label :for="id('text')">Text</label>
        <Expression :id="id('text')" v-model="action.text" kind="template" :rows="4" :trigger="trigger" />
        <small
          ><code v-pre>{{.person.givenName}}</code
          >, <code v-pre>{{get "module.title" "the module"}}</code>, <code v-pre>{{.award.address}}</code> are
          filled in.</small
        >
      </div>
    </template>
    <div v-if="action.kind === 'task'" class="row">
      <div class="field">
        <label :for="id('owner')">Whose it is</label>
        <InputText :id="id('owner')" v-model="action.owner" placeholder="an e-mail address" />
      </div>
      <div class="field narrow">
        <label :for="id('due')">Due in</label>
        <InputText :id="id('due')" v-model="action.dueIn" placeholder="3d" />
      </div>
    </div>
  </fieldset>
</template>

<style scoped>
fieldset {
  position: relative;
  margin: 0 0 0.9rem;
  padding: 0.6rem 0.9rem 0;
}

legend {
  font-weight: 600;
  padding: 0 0.3rem;
}

.row {
  display: flex;
  gap: 1rem;
  align-items: flex-start;
}

.first {
  margin-top: 0.9rem;
}

.row .field {
  flex: 1;
}

.row .narrow {
  flex: 0 0 7rem;
}

.remove {
  position: absolute;
  right: 0.5rem;
  top: -0.7rem;
}
</style>
