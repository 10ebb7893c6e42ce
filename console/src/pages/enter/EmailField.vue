<script setup lang="ts">
import TextField from '../../parts/form/TextField.vue'

/** The address with which somebody signs in. */
const email = defineModel<string>({ required: true })
</script>

<template>
  <TextField
    id="email"
    v-model="email"
    type="email"
    autocomplete="username"
    autofocus
    required
    :label="$t('enter.eMailAddress')"
  />
</template>
