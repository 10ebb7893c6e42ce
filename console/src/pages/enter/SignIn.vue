<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, nextTick, ref, watch } from 'vue'
import { useRoute } from 'vue-router'

import { api, ok, Problem } from '../../api/client'
import { provideForm } from '../../parts/form/form'
import TextField from '../../parts/form/TextField.vue'
import Oops from '../../parts/Oops.vue'
import { $t } from '../../texts'
import Door from './Door.vue'
import { useEntering } from './entering'

/** With a password, and a code where one is needed; or at a provider. */
const route = useRoute()
const email = ref('')
const password = ref('')
const code = ref('')
const ways = useQuery({
  queryKey: ['ways-in'],
  queryFn: () => ok(api.GET('/api/v1/session/ways')),
  staleTime: 0,
  retry: false,
})
const then = computed(() => {
  const to = String(route.query.then ?? '/board')
  return to.startsWith('/') && !to.startsWith('//') ? to : '/board'
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
watch(error, async (e) => {
  if (!(e instanceof Problem) || !e.fields.code) return
  asked.value = true
  await nextTick()
  document.getElementById('code')?.focus()
})
watch([email, password], () => {
  asked.value = false
  code.value = ''
})
const shown = computed(() =>
  error.value instanceof Problem && error.value.fields.code && !code.value ? null : error.value,
)
const forgot = ref(false)
const sent = ref(false)
const failed = ref<Error | null>(null)
async function reset() {
  failed.value = null
  try {
    await ok(api.POST('/api/v1/session/reset', { body: { email: email.value } }))
    sent.value = true
  } catch (e) {
    failed.value = e as Error
  }
}
</script>

<template>
  <Door v-if="forgot" :title="$t('enter.newPassword')" :about="$t('enter.newPasswordAbout')">
    <p v-if="!ways.data.value?.mails" role="status">{{ $t('enter.noMails') }}</p>
    <p v-else-if="sent" role="status">{{ $t('enter.linkOnItsWay', { email }) }}</p>
    <form v-else @submit.prevent="reset">
      <TextField
        id="email"
        v-model="email"
        type="email"
        autocomplete="username"
        autofocus
        required
        :label="$t('enter.eMailAddress')"
      />
      <Oops :error="failed" />
      <Button type="submit" :label="$t('enter.mailMeALink')" />
    </form>
    <p><Button variant="text" :label="$t('enter.backToSignIn')" @click="forgot = sent = false" /></p>
  </Door>
  <Door v-else :title="$t('enter.signIn')">
    <Oops
      v-if="ways.data.value?.refused"
      :error="
        new Error(
          ways.data.value.provider
            ? $t('enter.notLetInBy', { provider: ways.data.value.provider, why: ways.data.value.refused })
            : ways.data.value.refused,
        )
      "
    />
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
      <TextField
        v-if="asked"
        id="code"
        v-model="code"
        autocomplete="one-time-code"
        required
        :label="$t('enter.code')"
        :help="$t('enter.codeHelp')"
      />
      <Oops :error="shown" />
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
