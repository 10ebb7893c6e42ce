<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import { computed } from 'vue'

import type { Schemas } from '../../api/client'

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
const id = computed(() => (props.prefix ?? '') + props.field.name)
</script>

<template>
  <div class="field">
    <label :for="id">{{ field.title }}</label>
    <select v-if="field.options?.length" :id="id" v-model="value">
      <option v-for="o in field.options" :key="o" :value="o">{{ o }}</option>
    </select>
    <InputText
      v-else
      :id="id"
      v-model="value"
      :type="field.secret ? 'password' : field.date ? 'date' : 'text'"
      :invalid="!!problem"
      :placeholder="removed ? 'taken away' : field.secret && kept ? 'unchanged' : (field.default ?? '')"
      autocomplete="off"
    />
    <Button
      v-if="field.secret && kept && !field.required && !field.made && !removed"
      type="button"
      size="small"
      variant="text"
      :label="`Take ${field.title.toLowerCase()} away`"
      @click="$emit('remove')"
    />
    <small v-if="problem" class="problem">{{ problem }}</small>
    <small
      >{{ field.help }}<template v-if="hint">. {{ hint }}</template></small
    >
  </div>
</template>

<style scoped>
.problem {
  color: var(--signal);
}
</style>
