<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import { computed, reactive, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, ok, Problem } from '../../api/client'
import Oops from '../../parts/Oops.vue'
import { entered } from '../../router'
import Door from './Door.vue'

const route = useRoute()
const router = useRouter()
const form = reactive({ name: '', email: '', password: '' })
const error = ref<Error | null>(null)
const fields = computed(() => (error.value instanceof Problem ? error.value.fields : {}))

async function setUp() {
  error.value = null
  try {
    await ok(api.POST('/api/v1/setup', { body: { secret: String(route.query.secret ?? ''), ...form } }))
    entered(true)
    await router.push('/connections')
  } catch (e) {
    error.value = e as Error
  }
}
</script>

<template>
  <Door title="Set up Kanban" about="You are the first to come here. You will be its administrator.">
    <form @submit.prevent="setUp">
      <div class="field">
        <label for="name">Your name</label>
        <InputText id="name" v-model="form.name" autocomplete="name" :invalid="'name' in fields" />
      </div>
      <div class="field">
        <label for="email">E-mail address</label>
        <InputText id="email" v-model="form.email" autocomplete="username" :invalid="'email' in fields" />
      </div>
      <div class="field">
        <label for="password">Password</label>
        <InputText
          id="password"
          v-model="form.password"
          type="password"
          autocomplete="new-password"
          :invalid="'password' in fields"
        />
        <small>At least 12 characters.</small>
      </div>
      <Oops :error="error" />
      <Button type="submit" label="Set up" />
    </form>
  </Door>
</template>
