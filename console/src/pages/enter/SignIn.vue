<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, ref, watch } from 'vue'
import { useRoute } from 'vue-router'

import { api, ok, Problem } from '../../api/client'
import { provideForm } from '../../parts/form/form'
import TextField from '../../parts/form/TextField.vue'
import Oops from '../../parts/Oops.vue'
import { $t } from '../../texts'
import CodeField from './CodeField.vue'
import Door from './Door.vue'
import EmailField from './EmailField.vue'
import { useEntering } from './entering'
import ForgottenPassword from './ForgottenPassword.vue'

/** With a password, and a code where one is needed; or at a provider. */
const route = useRoute()
const email = ref('')
const password = ref('')
const code = ref('')
const forgot = ref(false)
// Why a browser was not let in is said once: it must stay though the page is looked at again.
const ways = useQuery({
  queryKey: ['ways-in'],
  queryFn: () => ok(api.GET('/api/v1/session/ways')),
  refetchOnWindowFocus: false,
  refetchOnReconnect: false,
})
const refused = computed(() => {
  const { refused: why, provider } = ways.data.value ?? {}
  if (!why) return null
  return new Error(provider ? $t('enter.notLetInBy', { provider, why }) : why)
})
const then = computed(() => {
  const to = String(route.query.then ?? '/')
  return to.startsWith('/') && !to.startsWith('//') ? to : '/'
})
const { error, busy, enter } = useEntering(
  () =>
    ok(
      api.POST('/api/v1/session', {
        body: { email: email.value, password: password.value, code: code.value || undefined },
      }),
    ),
  () => then.value,
)
provideForm(
  () => error.value,
  () => busy.value,
)
/** Whether the password was right and a code is asked for; it stays so while codes are tried. */
const asked = ref(false)
const aboutCode = computed(() => error.value instanceof Problem && !!error.value.fields.code)
watch(aboutCode, (yes) => {
  if (yes) asked.value = true
})
watch([email, password], () => {
  asked.value = false
  code.value = ''
})
</script>

<template>
  <ForgottenPassword v-if="forgot" v-model="email" :mails="!!ways.data.value?.mails" @back="forgot = false" />
  <Door v-else :title="$t('enter.signIn')">
    <Oops :error="refused" />
    <p v-for="p in ways.data.value?.providers" :key="p.id">
      <Button
        as="a"
        class="provider"
        variant="outlined"
        :label="$t('enter.signInBy', { provider: p.name })"
        :href="`/providers/${p.id}/sign-in?then=${encodeURIComponent(then)}`"
      />
    </p>
    <form @submit.prevent="enter">
      <EmailField v-model="email" />
      <TextField
        id="password"
        v-model="password"
        type="password"
        autocomplete="current-password"
        required
        :label="$t('enter.password')"
      />
      <CodeField v-if="asked" v-model="code" />
      <Oops :error="aboutCode && !code ? null : error" />
      <p class="row">
        <Button type="submit" :label="$t('enter.signIn')" :loading="busy" />
        <Button variant="text" :label="$t('enter.forgot')" @click="forgot = true" />
      </p>
    </form>
  </Door>
</template>

<style scoped>
.provider {
  width: 100%;
  text-decoration: none;
}

.row {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem;
  justify-content: space-between;
}
</style>
