<script setup lang="ts">
import Button from 'primevue/button'
import { reactive } from 'vue'
import { useRoute } from 'vue-router'

import { api, ok } from '../../api/client'
import { provideForm } from '../../parts/form/form'
import TextField from '../../parts/form/TextField.vue'
import Oops from '../../parts/Oops.vue'
import Door from './Door.vue'
import { useEntering } from './entering'

const route = useRoute()
const form = reactive({ name: '', email: '', password: '' })
const { error, busy, enter } = useEntering(() =>
  ok(api.POST('/api/v1/setup', { body: { secret: String(route.query.secret ?? ''), ...form } })),
)
provideForm(
  () => error.value,
  () => busy.value,
)
</script>

<template>
  <Door :title="$t('enter.setUpKanban')" :about="$t('enter.youAreFirstToCome')">
    <form @submit.prevent="enter">
      <TextField
        id="name"
        v-model="form.name"
        autocomplete="name"
        :label="$t('enter.yourName')"
        name="name"
      />
      <TextField
        id="email"
        v-model="form.email"
        autocomplete="username"
        :label="$t('enter.eMailAddress')"
        name="email"
      />
      <TextField
        id="password"
        v-model="form.password"
        type="password"
        autocomplete="new-password"
        :label="$t('enter.password')"
        name="password"
        :help="$t('enter.atLeast12Characters')"
      />
      <Oops :error="error" />
      <Button type="submit" :label="$t('common.setUp')" :loading="busy" />
    </form>
  </Door>
</template>
