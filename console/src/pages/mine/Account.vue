<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { computed, reactive } from 'vue'

import { api, ok } from '../../api/client'
import TextField from '../../parts/form/TextField.vue'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import { when } from '../../parts/when'
import { $t } from '../../texts'
import { browser } from './browser'
import Codes from './Codes.vue'
import Names from './Names.vue'
import Tokens from './Tokens.vue'
import Ways from './Ways.vue'

/** How somebody gets in: their password, where they are signed in, and their tokens. */
const queries = useQueryClient()
const sessions = useQuery({ queryKey: ['own-sessions'], queryFn: () => ok(api.GET('/api/v1/sessions')) })
const end = useMutation({
  mutationFn: (id: string) => ok(api.DELETE('/api/v1/sessions/{id}', { params: { path: { id } } })),
  onSettled: () => queries.invalidateQueries({ queryKey: ['own-sessions'] }),
})
// What stands below must not move when these come.
const codes = useQuery({ queryKey: ['own-codes'], queryFn: () => ok(api.GET('/api/v1/session/codes')) })
const ways = useQuery({
  queryKey: ['own-providers'],
  queryFn: () => ok(api.GET('/api/v1/session/providers')),
})
const ready = computed(() => codes.isFetched.value && ways.isFetched.value)
const form = reactive({ old: '', password: '' })
const change = useMutation({
  mutationFn: () => ok(api.PUT('/api/v1/session/password', { body: { ...form } })),
  onSuccess: () => {
    Object.assign(form, { old: '', password: '' })
    void queries.invalidateQueries({ queryKey: ['own-sessions'] })
  },
})
</script>

<template>
  <PageHead :title="$t('shell.account')" :about="$t('mine.accountAbout')" />
  <Names />
  <h2>{{ $t('mine.password') }}</h2>
  <form class="password" @submit.prevent="change.mutate()">
    <TextField
      id="old-password"
      v-model="form.old"
      name="old"
      type="password"
      :label="$t('mine.oldPassword')"
      autocomplete="current-password"
    />
    <TextField
      id="new-password"
      v-model="form.password"
      name="password"
      type="password"
      :label="$t('mine.newPassword')"
      autocomplete="new-password"
    />
    <Button
      type="submit"
      size="small"
      variant="outlined"
      :label="$t('mine.changePassword')"
      :disabled="!form.old || !form.password"
      :loading="change.isPending.value"
    />
  </form>
  <p v-if="change.isSuccess.value" role="status">{{ $t('mine.passwordChanged') }}</p>
  <Oops :error="change.error.value" />
  <template v-if="ready">
    <Codes />
    <Ways />
  </template>
  <h2 v-if="ready">{{ $t('mine.sessions') }}</h2>
  <p v-if="ready" class="faint">{{ $t('mine.sessionsAbout') }}</p>
  <Listing
    v-if="ready"
    :rows="sessions.data.value?.items"
    :loading="sessions.isLoading.value"
    :error="sessions.error.value ?? end.error.value"
    :again="sessions.refetch"
    :empty="$t('mine.noSession')"
  >
    <Column :header="$t('mine.browser')">
      <template #body="{ data }"
        >{{ browser(data.agent) }} <small class="faint below">{{ data.address }}</small></template
      >
    </Column>
    <Column :header="$t('mine.began')"
      ><template #body="{ data }">{{ when(data.beganAt) }}</template></Column
    >
    <Column :header="$t('mine.used')"
      ><template #body="{ data }">{{ data.current ? $t('mine.now') : when(data.usedAt) }}</template></Column
    >
    <Column>
      <template #body="{ data }">
        <span v-if="data.current" class="faint">{{ $t('mine.thisOne') }}</span>
        <Button
          v-else
          size="small"
          variant="text"
          :label="$t('mine.endSession')"
          :aria-label="$t('mine.endSessionOf', { agent: browser(data.agent) })"
          @click="end.mutate(data.id)"
        />
      </template>
    </Column>
  </Listing>
  <Tokens v-if="ready" />
</template>

<style scoped>
.password {
  max-width: 22rem;
}
</style>
