<script setup lang="ts">
import Button from 'primevue/button'
import { ref } from 'vue'
import { useRoute } from 'vue-router'

import { api, ok } from '../../api/client'
import TextField from '../../parts/form/TextField.vue'
import Oops from '../../parts/Oops.vue'
import Door from './Door.vue'
import { useEntering } from './entering'

const route = useRoute()
const email = ref('')
const password = ref('')
const { error, busy, enter } = useEntering(
  () => ok(api.POST('/api/v1/session', { body: { email: email.value, password: password.value } })),
  () => {
    const then = String(route.query.then ?? '/board')
    return then.startsWith('/') && !then.startsWith('//') ? then : '/board'
  },
)
</script>

<template>
  <Door :title="$t('enter.signIn')">
    <form @submit.prevent="enter">
      <TextField
        id="email"
        v-model="email"
        type="email"
        autocomplete="username"
        autofocus
        required
        :label="$t('enter.eMailAddress')"
      />
      <TextField
        id="password"
        v-model="password"
        type="password"
        autocomplete="current-password"
        required
        :label="$t('enter.password')"
      />
      <Oops :error="error" />
      <Button type="submit" :label="$t('enter.signIn')" :loading="busy" />
    </form>
  </Door>
</template>
