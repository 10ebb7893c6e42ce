<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Textarea from 'primevue/textarea'
import { computed } from 'vue'

import type { Schemas } from '../../api/client'

/** The values of one action of a rule. */
const action = defineModel<Schemas['Action']>({ required: true })
const props = defineProps<{
  connections: Schemas['Connection'][]
  badges: Schemas['Badge'][]
  number: number
  kind: string
}>()
defineEmits<{ remove: [] }>()

const titles: Record<string, string> = { send: 'Send a signed event', mail: 'Mail', award: 'Award a badge' }
const fitting = computed(() =>
  props.connections.filter((c) => c.kind === (props.kind === 'send' ? 'webhook' : 'smtp')),
)
const fields = computed({
  get: () =>
    Object.entries(action.value.fields ?? {})
      .map(([k, v]) => `${k} = ${v}`)
      .join('\n'),
  set: (text) => {
    const lines = text.split('\n').map((l) => l.split(/\s*=\s*(.*)/s))
    action.value.fields = Object.fromEntries(
      lines.filter(([k]) => k?.trim()).map(([k, v]) => [k!.trim(), v ?? '']),
    )
  },
})
</script>

<template>
  <fieldset class="sheet">
    <legend>{{ number }}. {{ titles[kind] }}</legend>
    <Button class="remove" size="small" variant="text" label="Remove" @click="$emit('remove')" />
    <div v-if="kind !== 'award'" class="field">
      <label :for="`via-${number}`">Through</label>
      <select :id="`via-${number}`" v-model="action.connectionId">
        <option v-for="c in fitting" :key="c.id" :value="c.id">{{ c.name }}</option>
      </select>
      <small v-if="!fitting.length">No such connection yet; make one first.</small>
    </div>
    <div v-if="kind === 'award'" class="field">
      <label :for="`badge-${number}`">Badge</label>
      <select :id="`badge-${number}`" v-model="action.badgeId">
        <option v-for="b in badges" :key="b.id" :value="b.id">{{ b.name }}</option>
      </select>
      <small v-if="!badges.length">No badge yet; make one first.</small>
    </div>
    <div v-if="kind === 'send'" class="field">
      <label :for="`fields-${number}`">Data, one value a line</label>
      <Textarea :id="`fields-${number}`" v-model.lazy="fields" rows="3" class="code" />
      <small
        >Each value is a CEL expression: <code>email = person.email</code>,
        <code>label = "learns " + course.title</code></small
      >
    </div>
    <template v-if="kind === 'mail'">
      <div class="field">
        <label :for="`subject-${number}`">Subject</label>
        <InputText :id="`subject-${number}`" v-model="action.subject" />
      </div>
      <div class="field">
        <label :for="`text-${number}`">Text</label>
        <Textarea :id="`text-${number}`" v-model="action.text" rows="5" />
        <small
          ><code v-pre>{{.person.givenName}}</code
          >, <code v-pre>{{.module.title}}</code>, <code v-pre>{{.award.address}}</code> are filled in.</small
        >
      </div>
    </template>
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

.remove {
  position: absolute;
  right: 0.5rem;
  top: -0.4rem;
}

.code {
  font: 13px/1.5 var(--mono);
}
</style>
