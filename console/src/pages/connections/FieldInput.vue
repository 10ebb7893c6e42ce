<script setup lang="ts">
import InputText from 'primevue/inputtext'

import type { Schemas } from '../../api/client'

/** One value to enter for a connection. */
defineProps<{ field: Schemas['Field']; kept: boolean; invalid: boolean }>()
const value = defineModel<string>()
</script>

<template>
  <div class="field">
    <label :for="field.name">{{ field.title }}</label>
    <select v-if="field.options?.length" :id="field.name" v-model="value">
      <option v-for="o in field.options" :key="o" :value="o">{{ o }}</option>
    </select>
    <InputText
      v-else
      :id="field.name"
      v-model="value"
      :type="field.secret ? 'password' : field.date ? 'date' : 'text'"
      :invalid="invalid"
      :placeholder="field.secret && kept ? 'unchanged' : (field.default ?? '')"
      autocomplete="off"
    />
    <small>{{ field.help }}</small>
  </div>
</template>
