<script setup lang="ts">
import Button from 'primevue/button'
import { ref, watch } from 'vue'
import { useRoute } from 'vue-router'

import { api, ok, Problem } from '../../api/client'
import { provideForm } from '../../parts/form/form'
import TextField from '../../parts/form/TextField.vue'
import Oops from '../../parts/Oops.vue'
import CodeField from './CodeField.vue'
import Door from './Door.vue'
import { useEntering } from './entering'

/** Whoever was invited chooses a password here, and is in. */
const route = useRoute()
const password = ref('')
const code = ref('')
const { error, busy, enter } = useEntering(() =>
  ok(
    api.POST('/api/v1/invitations', {
      body: {
        secret: String(route.query.secret ?? ''),
        password: password.value,
        code: code.value || undefined,
      },
    }),
  ),
)
provideForm(
  () => error.value,
  () => busy.value,
)
/** Whether whoever chooses a new password has one-time codes. */
const asked = ref(false)
watch(error, (e) => {
  if (e instanceof Problem && e.fields.code) asked.value = true
})
</script>

<template>
  <Door :title="$t('enter.welcome')" :about="$t('enter.chooseAPassword')">
    <form @submit.prevent="enter">
      <TextField
        id="password"
        v-model="password"
        type="password"
        autocomplete="new-password"
        :label="$t('enter.password')"
        name="password"
        :help="$t('enter.atLeast12Characters')"
      />
      <CodeField v-if="asked" v-model="code" />
      <Oops :error="error" />
      <Button type="submit" :label="$t('enter.enterNow')" :loading="busy" />
    </form>
  </Door>
</template>
