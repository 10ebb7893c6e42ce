<script setup lang="ts">
import Button from 'primevue/button'
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, ok } from '../../api/client'
import { provideForm } from '../../parts/form/form'
import TextField from '../../parts/form/TextField.vue'
import Oops from '../../parts/Oops.vue'
import { entered } from '../../router'
import Door from './Door.vue'

/** Whoever was invited chooses a password here, and is in. */
const route = useRoute()
const router = useRouter()
const password = ref('')
const sending = ref(false)
const error = ref<Error | null>(null)
provideForm(
  () => error.value,
  () => sending.value,
)

async function accept() {
  error.value = null
  sending.value = true
  try {
    await ok(
      api.POST('/api/v1/invitations', {
        body: { secret: String(route.query.secret ?? ''), password: password.value },
      }),
    )
    entered(true)
    await router.push('/board')
  } catch (e) {
    error.value = e as Error
  } finally {
    sending.value = false
  }
}
</script>

<template>
  <Door :title="$t('enter.welcome')" :about="$t('enter.chooseAPassword')">
    <form @submit.prevent="accept">
      <TextField
        id="password"
        v-model="password"
        type="password"
        autocomplete="new-password"
        :label="$t('enter.password')"
        name="password"
        :help="$t('enter.atLeast12Characters')"
      />
      <Oops :error="error" />
      <Button type="submit" :label="$t('enter.enterNow')" :loading="sending" />
    </form>
  </Door>
</template>
