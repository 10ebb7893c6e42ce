<script setup lang="ts">
import Fold from '../../parts/Fold.vue'
import AreaField from '../../parts/form/AreaField.vue'
import TextField from '../../parts/form/TextField.vue'
import { $t } from '../../texts'

/** What holds for a whole outside system. */
defineProps<{ wrong: Record<string, string> }>()
const draft = defineModel<{
  name: string
  owner: string
  address: string
  notes: string
  atOnce: string
  perMinute: string
  restAfter: string
}>({ required: true })
const limits = [
  ['atOnce', $t('connections.callsAtOnceLabel'), $t('connections.optionalThroughAllItsInterfaces')],
  ['perMinute', $t('connections.callsMinuteLabel'), $t('connections.optionalThroughAllItsInterfaces')],
  ['restAfter', $t('connections.restsAfter'), $t('connections.optionalFailuresInRowAfter')],
] as const
</script>

<template>
  <div class="field">
    <label for="name">{{ $t('common.name') }}</label>
    <TextField
      id="name"
      v-model="draft.name"
      hidden
      :label="$t('common.name')"
      :problem="wrong.name"
      :placeholder="$t('connections.byWhichPeopleKnowIt')"
    />
  </div>
  <TextField
    id="owner"
    v-model="draft.owner"
    autocomplete="off"
    name="owner"
    :label="$t('connections.owner')"
    :help="$t('connections.optionalWhoMindsSystemFor')"
  />
  <div class="field">
    <label for="site">{{ $t('common.address') }}</label>
    <TextField
      id="site"
      v-model="draft.address"
      hidden
      :label="$t('common.address')"
      :problem="wrong.address"
    />
    <small>{{ $t('connections.optionalWherePeopleOpenIt') }}</small>
  </div>
  <Fold :title="$t('connections.limitsAndNotes')">
    <TextField
      v-for="[name, title, help] in limits"
      :id="name"
      :key="name"
      v-model="draft[name]"
      :label="title"
      :problem="wrong[name]"
      :help="help"
      :placeholder="$t('connections.noLimit')"
    />
    <AreaField id="notes" v-model="draft.notes" :rows="3" :label="$t('connections.notes')" />
  </Fold>
</template>

<style scoped>
summary {
  cursor: pointer;
  margin-bottom: 0.5rem;
}

details {
  margin-bottom: 0.8rem;
}

.problem {
  color: var(--signal);
}
</style>
