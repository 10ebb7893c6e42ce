<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, watch } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import TextField from '../../parts/form/TextField.vue'
import OneSection from '../../parts/OneSection.vue'
import { actions } from '../../parts/triggers'
import Choices from './Choices.vue'
import Expression from './Expression.vue'
import Fields from './Fields.vue'

/** The values of one action of a rule. */
const action = defineModel<Schemas['Action']>({ required: true })
const props = defineProps<{
  interfaces: Schemas['Interface'][]
  badges: Schemas['Badge'][]
  number: number
  of: number
  /** What the service calls it, such as actions[0]. */
  at: string
  /** Stays the same wherever it stands among the actions. */
  handle: string
  trigger: string
  /** Something reverts what the rule did. */
  reverted: boolean
}>()
defineEmits<{ remove: []; move: [by: 1 | -1] }>()

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
// Where there is only one to choose, it is chosen; of several, somebody chooses.
watch(
  [fitting, () => props.badges],
  ([list, badges]) => {
    const a = action.value
    if (list?.length === 1 && !a.interfaceId) a.interfaceId = list[0]!.id
    if (a.kind === 'award' && badges.length === 1 && !a.badgeId) a.badgeId = badges[0]!.id
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
const choices = (list: { id: string; name: string }[]) => list.map((x) => ({ value: x.id, label: x.name }))
</script>

<template>
  <fieldset class="sheet">
    <legend>{{ number }}. {{ actions[action.kind] }}</legend>
    <div class="remove">
      <Button
        v-if="number > 1"
        type="button"
        size="small"
        variant="text"
        :label="$t('rules.earlier')"
        :aria-label="$t('rules.doActionEarlier', { number })"
        @click="$emit('move', -1)"
      />
      <Button
        v-if="number < of"
        type="button"
        size="small"
        variant="text"
        :label="$t('rules.later')"
        :aria-label="$t('rules.doActionLater', { number })"
        @click="$emit('move', 1)"
      />
      <Button
        type="button"
        size="small"
        variant="text"
        :label="$t('common.remove')"
        :aria-label="$t('rules.removeAction', { number })"
        @click="$emit('remove')"
      />
    </div>
    <div class="row first">
      <ChoiceField
        v-if="fitting"
        :id="id('via')"
        v-model="action.interfaceId"
        :label="$t('rules.interface')"
        :name="`${at}.interfaceId`"
        :options="choices(fitting)"
        :none="$t('rules.noSuchInterfaceYetAdd')"
      />
      <ChoiceField
        v-if="action.kind === 'award'"
        :id="id('badge')"
        v-model="action.badgeId"
        :label="$t('rules.badge')"
        :name="`${at}.badgeId`"
        :options="choices(badges)"
        :none="$t('rules.noBadgeYetMakeOne')"
      />
      <ChoiceField
        v-if="action.kind === 'call-operation'"
        :id="id('operation')"
        v-model="action.operation"
        :label="$t('rules.operation')"
        :name="`${at}.operation`"
        :options="(operations.data.value ?? []).map((o) => ({ value: o.name, label: o.title }))"
        :none="$t('rules.interfaceHasNoOperationsYet')"
      />
      <div v-if="action.kind === 'enrol' || action.kind === 'unenrol'" class="field">
        <label :for="id('section')">{{ $t('common.section') }}</label>
        <OneSection v-model="action.sectionId" :input-id="id('section')" :label="$t('common.section')" />
        <small>{{ $t('rules.emptyEventsOwn') }}</small>
      </div>
      <TextField
        v-if="action.kind === 'append-row'"
        :id="id('sheet')"
        v-model="action.sheet"
        :label="$t('rules.sheet')"
        :name="`${at}.sheet`"
      />
      <TextField
        :id="id('after')"
        v-model="action.after"
        class="narrow"
        :label="$t('rules.after')"
        :name="`${at}.after`"
        :placeholder="$t('rules.atOnce')"
        help="90m, 2h, 3d"
      />
    </div>
    <div class="field">
      <label :id="`${id('if')}-label`" :for="id('if')">{{ $t('rules.onlyIfWhenItsTime') }}</label>
      <Expression
        :id="id('if')"
        v-model="action.if"
        kind="condition"
        :trigger="trigger"
        :placeholder="$t('rules.always')"
      />
    </div>
    <Fields
      v-if="['send-event', 'call-operation', 'append-row'].includes(action.kind)"
      v-model="action"
      of="fields"
      :handle="handle"
      :trigger="trigger"
      :known="operation?.fields"
      :interface-id="action.interfaceId"
      :operation="action.kind === 'call-operation' ? action.operation : undefined"
    />
    <template
      v-if="action.kind === 'send-event' && (reverted || Object.keys(action.undoFields ?? {}).length)"
    >
      <b class="undo">{{ $t('rules.sentWhenItIsReverted') }}</b>
      <Fields v-model="action" of="undoFields" :handle="handle" :trigger="trigger" />
    </template>
    <div v-if="action.kind.endsWith('-group')" class="field">
      <label :id="`${id('group')}-label`" :for="id('group')">{{ $t('rules.group') }}</label>
      <Expression :id="id('group')" v-model="action.group" kind="template" :trigger="trigger" />
      <Choices
        v-if="action.interfaceId"
        :interface-id="action.interfaceId"
        :label="$t('rules.group')"
        @choose="(v) => (action.group = v)"
      />
    </div>
    <template v-if="action.kind === 'mail' || action.kind === 'task'">
      <div class="field">
        <label :id="`${id('subject')}-label`" :for="id('subject')">{{
          action.kind === 'task' ? $t('rules.whatIsToBeDone') : $t('rules.subject')
        }}</label>
        <Expression :id="id('subject')" v-model="action.subject" kind="template" :trigger="trigger" />
      </div>
      <div class="field">
        <label :id="`${id('text')}-label`" :for="id('text')">{{ $t('rules.text') }}</label>
        <Expression :id="id('text')" v-model="action.text" kind="template" :rows="4" :trigger="trigger" />
        <small
          ><i18n-t keypath="rules.areFilledIn" scope="global"
            ><template #personGivenname
              ><code v-pre>{{.person.givenName}}</code></template
            ><template #getModuleTitleModule
              ><code v-pre>{{get "module.title" "the module"}}</code></template
            ><template #awardAddress
              ><code v-pre>{{.award.address}}</code></template
            ></i18n-t
          ></small
        >
      </div>
    </template>
    <div v-if="action.kind === 'task'" class="row">
      <TextField
        :id="id('owner')"
        v-model="action.owner"
        :label="$t('rules.whoseItIs')"
        :name="`${at}.owner`"
        :placeholder="$t('rules.eMailAddress')"
      />
      <TextField
        :id="id('due')"
        v-model="action.dueIn"
        class="narrow"
        :label="$t('rules.dueIn')"
        :name="`${at}.dueIn`"
        placeholder="3d"
      />
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
  top: -1rem;
  background: var(--sheet);
}

.undo {
  display: block;
  font-size: 12.5px;
}
</style>
