<script setup lang="ts">
import { useMutation, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'

import { api, ok, type Schemas } from '../../api/client'
import Oops from '../../parts/Oops.vue'
import { when } from '../../parts/when'
import { $t } from '../../texts'

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
const account = (g: Schemas['Grant']) => g.account || $t('connections.accountThatServiceDoesNot')
</script>

<template>
  <div class="grant">
    <p v-if="!one.grant">{{ $t('connections.nobodyHasSignedInAt') }}</p>
    <template v-else>
      <p v-if="one.grant.trouble" class="urgent">
        {{ $t('connections.signInAgainTrouble', { trouble: one.grant.trouble }) }}
      </p>
      <p v-else>
        <i18n-t keypath="connections.letInAs" scope="global"
          ><template #grant
            ><b>{{ account(one.grant) }}</b></template
          ><template #more
            ><template v-if="one.grant.scopes.length">{{
              $t('connections.with', { scopes: one.grant.scopes.join(', ') })
            }}</template></template
          ></i18n-t
        >
      </p>
      <p v-if="one.grant.missing.length" class="urgent">
        {{ $t('connections.askedForAndNotGranted', { missing: one.grant.missing.join(', ') }) }}
      </p>
      <p class="faint">
        {{
          $t('connections.signedInBy', {
            grantedBy: one.grant.grantedBy,
            grantedAt: when(one.grant.grantedAt),
          })
        }}
        <template v-if="one.grant.renews">{{ $t('connections.itRenewsItself') }}</template>
        <template v-else-if="one.grant.expiresAt">{{
          $t('connections.itEndsSignInAgain', { expiresAt: when(one.grant.expiresAt) })
        }}</template>
        <template v-else>{{ $t('connections.itHasNoEndThat') }}</template>
      </p>
    </template>
    <div v-if="one.pending" class="pending" role="alert">
      <p>
        <i18n-t keypath="connections.somebodySignedInAsBut" scope="global"
          ><template #pending
            ><b>{{ account(one.pending) }}</b></template
          ><template #trouble>{{ one.pending.trouble }}</template></i18n-t
        >
      </p>
      <Button
        size="small"
        :label="$t('connections.takeIt')"
        :loading="decide.isPending.value"
        @click="decide.mutate(true)"
      />
      <Button
        size="small"
        variant="outlined"
        :label="$t('connections.dropIt')"
        :loading="decide.isPending.value"
        @click="decide.mutate(false)"
      />
    </div>
    <Oops :error="begin.error.value ?? decide.error.value ?? end.error.value" />
    <Button
      size="small"
      variant="outlined"
      :label="one.grant ? $t('connections.signInAgain') : $t('connections.signIn')"
      :loading="begin.isPending.value"
      @click="begin.mutate()"
    />
    <Button
      v-if="one.grant"
      size="small"
      variant="text"
      :label="$t('connections.giveItUp')"
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
