<script setup lang="ts">
import { useMutation, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'

import { api, ok, type Schemas } from '../../api/client'
import Oops from '../../parts/Oops.vue'
import { when } from '../../parts/when'

/** What was granted to an interface by signing in at its service, and what can be done about it. */
const props = defineProps<{ one: Schemas['Interface'] }>()
const queries = useQueryClient()
const path = () => ({ params: { path: { id: props.one.id } } })
const refresh = () => queries.invalidateQueries({ queryKey: ['connections'] })
const begin = useMutation({
  mutationFn: () => ok(api.POST('/api/v1/interfaces/{id}/sign-in', path())),
  onSuccess: (at) => {
    location.href = at.address
  },
})
const decide = useMutation({
  mutationFn: (take: boolean) => ok(api.POST('/api/v1/interfaces/{id}/grant', { ...path(), body: { take } })),
  onSettled: refresh,
})
const end = useMutation({
  mutationFn: () => ok(api.DELETE('/api/v1/interfaces/{id}/grant', path())),
  onSettled: refresh,
})
const account = (g: Schemas['Grant']) => g.account || 'an account that the service does not name'
</script>

<template>
  <div class="grant">
    <p v-if="!one.grant">▲ Nobody has signed in at the service yet.</p>
    <template v-else>
      <p v-if="one.grant.trouble" class="urgent">▲ {{ one.grant.trouble }}. Sign in again.</p>
      <p v-else>
        ● Let in as <b>{{ account(one.grant) }}</b><template v-if="one.grant.scopes.length"
          >, with {{ one.grant.scopes.join(', ') }}</template
        >.
      </p>
      <p v-if="one.grant.missing.length" class="urgent">
        ▲ Asked for and not granted: {{ one.grant.missing.join(', ') }}.
      </p>
      <p class="faint">
        Signed in by {{ one.grant.grantedBy }}, {{ when(one.grant.grantedAt) }};
        <template v-if="one.grant.renews">it renews itself.</template>
        <template v-else-if="one.grant.expiresAt"
          >it ends {{ when(one.grant.expiresAt) }}: sign in again before.</template
        >
        <template v-else>it has no end that is known.</template>
      </p>
    </template>
    <div v-if="one.pending" class="pending" role="alert">
      <p>
        ▲ Somebody signed in as <b>{{ account(one.pending) }}</b>, but {{ one.pending.trouble }}. Until you
        decide, the former grant counts.
      </p>
      <Button size="small" label="Take it" :loading="decide.isPending.value" @click="decide.mutate(true)" />
      <Button
        size="small"
        variant="outlined"
        label="Drop it"
        :loading="decide.isPending.value"
        @click="decide.mutate(false)"
      />
    </div>
    <Oops :error="begin.error.value ?? decide.error.value ?? end.error.value" />
    <Button
      size="small"
      variant="outlined"
      :label="one.grant ? 'Sign in again…' : 'Sign in…'"
      :loading="begin.isPending.value"
      @click="begin.mutate()"
    />
    <Button
      v-if="one.grant"
      size="small"
      variant="text"
      label="Give it up"
      :loading="end.isPending.value"
      @click="end.mutate()"
    />
  </div>
</template>

<style scoped>
.grant {
  border-top: 1px solid var(--line);
  margin-top: 0.5rem;
  padding-top: 0.5rem;
}

p {
  margin: 0 0 0.3rem;
}

.pending {
  border-inline-start: 3px solid var(--signal);
  padding-inline-start: 0.6rem;
  margin-bottom: 0.5rem;
}

.pending :deep(button) {
  margin-inline-end: 0.5rem;
}

.urgent {
  color: var(--signal);
}
</style>
