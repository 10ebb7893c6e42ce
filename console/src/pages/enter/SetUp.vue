<script setup lang="ts">
import Button from 'primevue/button'
import { reactive, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, ok } from '../../api/client'
import { provideForm } from '../../parts/form/form'
import TextField from '../../parts/form/TextField.vue'
import Oops from '../../parts/Oops.vue'
import { entered } from '../../router'
import Door from './Door.vue'

const route = useRoute()
const router = useRouter()
const form = reactive({ name: '', email: '', password: '' })
const error = ref<Error | null>(null)
provideForm(
  () => error.value,
  () => false,
)

async function setUp() {
  error.value = null
  try {
    await ok(api.POST('/api/v1/setup', { body: { secret: String(route.query.secret ?? ''), ...form } }))
    entered(true)
    await router.push('/board')
  } catch (e) {
    error.value = e as Error
  }
}
</script>

<template>
  <Door :title="$t('enter.setUpKanban')" :about="$t('enter.youAreFirstToCome')">
    <form @submit.prevent="setUp">
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
      <Button type="submit" :label="$t('common.setUp')" />
    </form>
  </Door>
</template>
