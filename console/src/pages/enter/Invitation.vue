<script setup lang="ts">
import Button from 'primevue/button'
import { ref } from 'vue'
import { useRoute } from 'vue-router'

import { api, ok } from '../../api/client'
import { provideForm } from '../../parts/form/form'
import TextField from '../../parts/form/TextField.vue'
import Oops from '../../parts/Oops.vue'
import Door from './Door.vue'
import { useEntering } from './entering'

/** Whoever was invited chooses a password here, and is in. */
const route = useRoute()
const password = ref('')
const { error, busy, enter } = useEntering(() =>
  ok(
    api.POST('/api/v1/invitations', {
      body: { secret: String(route.query.secret ?? ''), password: password.value },
    }),
  ),
)
provideForm(
  () => error.value,
  () => busy.value,
)
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
      <Oops :error="error" />
      <Button type="submit" :label="$t('enter.enterNow')" :loading="busy" />
    </form>
  </Door>
</template>
