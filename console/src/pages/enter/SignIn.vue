<script setup lang="ts">
import Button from 'primevue/button'
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, ok } from '../../api/client'
import TextField from '../../parts/form/TextField.vue'
import Oops from '../../parts/Oops.vue'
import { entered } from '../../router'
import Door from './Door.vue'

const route = useRoute()
const router = useRouter()
const email = ref('')
const password = ref('')
const error = ref<Error | null>(null)
const busy = ref(false)

async function signIn() {
  busy.value = true
  error.value = null
  try {
    await ok(api.POST('/api/v1/session', { body: { email: email.value, password: password.value } }))
    entered(true)
    const then = String(route.query.then ?? '/board')
    await router.push(then.startsWith('/') && !then.startsWith('//') ? then : '/board')
  } catch (e) {
    error.value = e as Error
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <Door :title="$t('enter.signIn')">
    <form @submit.prevent="signIn">
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
