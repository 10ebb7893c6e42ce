<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../../api/client'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import TextField from '../../parts/form/TextField.vue'
import { $t } from '../../texts'
import FieldInput from './FieldInput.vue'
import { useKinds } from './interface'

/** The kind, label and values of one interface that is made or edited. */
const props = defineProps<{
  /** An interface that exists: its kind stays, and its secrets stay when left empty. */
  edit?: boolean
  /** What the service refused, by field: "values.address". */
  wrong: Record<string, string>
  /** Whether a label must tell it from others. */
  others?: boolean
  /** Where people open the system: addresses may then be given as paths. */
  address?: string
  /** Makes the ids of the inputs unique on a page with several interfaces. */
  prefix?: string
}>()
const draft = defineModel<{
  kind: string
  label: string
  values: Record<string, string>
  /** Secrets that are taken away. */
  removed?: string[]
}>({ required: true })
function take(name: string) {
  draft.value.values[name] = ''
  draft.value.removed?.push(name)
}
const kinds = useKinds()
const chosen = computed(() => kinds.data.value?.find((k) => k.name === draft.value.kind))
const fields = computed(() => chosen.value?.fields.filter((f) => !f.made || props.edit) ?? [])
/** What an input is told of its field. */
const about = (f: Schemas['Field']) => ({
  field: f,
  prefix: props.prefix,
  kept: props.edit,
  removed: draft.value.removed?.includes(f.name),
  problem: props.wrong[`values.${f.name}`],
  hint:
    f.address && props.address && !props.edit
      ? $t('connections.pathSuchAsPathIs', { address: props.address })
      : undefined,
})
const id = (name: string) => (props.prefix ?? '') + name
</script>

<template>
  <div v-if="!edit" class="field">
    <label :for="id('kind')">{{ $t('connections.whatDoesItSpeak') }}</label>
    <ChoiceField
      :id="id('kind')"
      v-model="draft.kind"
      hidden
      :label="$t('common.kind')"
      :problem="wrong.kind"
      :options="(kinds.data.value ?? []).map((k) => ({ value: k.name, label: k.title }))"
    />
  </div>
  <dl v-if="chosen && !edit" class="about">
    <template v-if="chosen.hears?.length"
      ><dt>{{ $t('connections.heardFromIt') }}</dt>
      <dd>{{ chosen.hears.join('; ') }}</dd></template
    >
    <template v-if="chosen.does?.length"
      ><dt>{{ $t('connections.doneThere') }}</dt>
      <dd>{{ chosen.does.join('; ') }}</dd></template
    >
    <dt>{{ $t('connections.values') }}</dt>
    <dd>{{ chosen.given }}</dd>
    <dt>{{ $t('connections.rights') }}</dt>
    <dd>{{ chosen.rights }}</dd>
  </dl>
  <TextField
    v-if="edit || others"
    :id="id('label')"
    v-model="draft.label"
    :placeholder="others ? (chosen?.short ?? '') : ''"
    autocomplete="off"
    name="label"
    :label="$t('connections.label')"
    :help="$t('connections.whatTellsItFromOther')"
  />
  <FieldInput
    v-for="f in fields.filter((x) => !x.rare)"
    :key="f.name"
    v-model="draft.values[f.name]"
    v-bind="about(f)"
    @remove="take(f.name)"
  />
  <details v-if="fields.some((x) => x.rare)">
    <summary>{{ $t('connections.seldomNeeded') }}</summary>
    <FieldInput
      v-for="f in fields.filter((x) => x.rare)"
      :key="f.name"
      v-model="draft.values[f.name]"
      v-bind="about(f)"
      @remove="take(f.name)"
    />
  </details>
</template>

<style scoped>
details {
  margin-bottom: 0.8rem;
}

summary {
  cursor: pointer;
  margin-bottom: 0.5rem;
}

.about {
  display: grid;
  grid-template-columns: 7rem 1fr;
  gap: 0.15rem 0.8rem;
  margin: 0 0 0.9rem;
  font-size: 12.5px;
}

dt {
  color: var(--faint);
}

dd {
  margin: 0;
}
</style>
