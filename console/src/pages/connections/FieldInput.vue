<script setup lang="ts">
import Button from 'primevue/button'
import { computed } from 'vue'

import type { Schemas } from '../../api/client'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import TextField from '../../parts/form/TextField.vue'
import WhenField from '../../parts/form/WhenField.vue'

/** One value to enter for an interface. */
const props = defineProps<{
  field: Schemas['Field']
  kept: boolean
  problem?: string
  hint?: string
  prefix?: string
  /** A secret that is taken away when this is saved. */
  removed?: boolean
}>()
defineEmits<{ remove: [] }>()
const value = defineModel<string>()
const help = computed(() => [props.field.help, props.hint].filter(Boolean).join('. ') || undefined)
const id = computed(() => (props.prefix ?? '') + props.field.name)
</script>

<template>
  <div>
    <ChoiceField
      v-if="field.options?.length"
      :id="id"
      v-model="value"
      :label="field.title"
      :options="field.options.map((o) => ({ value: o, label: o }))"
      :help="help"
      :problem="problem"
    />
    <WhenField
      v-else-if="field.date"
      :id="id"
      v-model="value"
      of="date"
      :label="field.title"
      :help="help"
      :problem="problem"
    />
    <TextField
      v-else
      :id="id"
      v-model="value"
      :type="field.secret ? 'password' : 'text'"
      :label="field.title"
      :placeholder="
        removed
          ? $t('connections.takenAway')
          : field.secret && kept
            ? $t('connections.unchanged')
            : (field.default ?? '')
      "
      :help="help"
      :problem="problem"
      :autocomplete="field.secret ? 'new-password' : 'off'"
    />
    <Button
      v-if="field.secret && kept && !field.required && !field.made && !removed"
      type="button"
      size="small"
      variant="text"
      :label="$t('connections.takeAway', { title: field.title.toLowerCase() })"
      @click="$emit('remove')"
    />
  </div>
</template>
