<script setup lang="ts">
import { useMutation } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, reactive, ref } from 'vue'

import { api, ifMatch, ok, type Schemas } from '../../api/client'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import FormDialog from '../../parts/form/FormDialog.vue'
import TextField from '../../parts/form/TextField.vue'
import TickField from '../../parts/form/TickField.vue'
import { letGo } from '../../parts/form/typed'
import { $t } from '../../texts'
import RoleFields from './RoleFields.vue'
import { roleText } from './roles'

/** An OpenID provider: how it is reached, whom it lets in, and what its claims give. */
const props = defineProps<{ provider?: Schemas['Provider'] }>()
const emit = defineEmits<{ close: []; saved: [p?: Schemas['Provider']] }>()
type Edit = Schemas['EditProvider']
const drawn = (p?: Schemas['Provider']) => ({
  name: p?.name ?? '',
  issuer: p?.issuer ?? '',
  clientId: p?.clientId ?? '',
  secret: '',
  scopes: (p?.scopes ?? ['profile', 'email']).join(' '),
  on: p?.on ?? true,
  believes: (p?.believes ?? 'none') as NonNullable<Edit['believes']>,
  admits: (p?.admits ?? 'invited') as NonNullable<Edit['admits']>,
  personClaim: p?.personClaim ?? '',
  personKey: (p?.personKey ?? 'identifier') as NonNullable<Edit['personKey']>,
  mappings: [...(p?.mappings ?? [])],
})
const form = reactive(drawn(props.provider))
const grant = ref<Partial<Schemas['NewRoleGrant']>>({ scope: 'institution' })
const claim = reactive({ claim: '', value: '' })
const whole = computed(
  () =>
    !!claim.claim.trim() &&
    !!grant.value.role &&
    (grant.value.scope === 'institution' || !!grant.value.scopeId),
)
function add() {
  form.mappings.push({ ...claim, grant: { ...grant.value } as Schemas['NewRoleGrant'] })
  Object.assign(claim, { claim: '', value: '' })
  grant.value = { scope: 'institution' }
}
/** What a mapping gives, in words. */
function given(m: Schemas['ProviderMapping']) {
  const role = roleText({
    ...m.grant,
    id: '',
    scope: m.grant.scope ?? 'institution',
    scopeName: m.scopeName,
    issuer: m.issuer,
  })
  return m.value
    ? $t('settings.whereClaimIs', { claim: m.claim, value: m.value, role })
    : $t('settings.whereClaimThere', { claim: m.claim, role })
}
const body = (): Edit => ({
  ...form,
  secret: form.secret || undefined,
  scopes: form.scopes.split(/\s+/).filter(Boolean),
  personClaim: form.personClaim.trim() || undefined,
  personKey: form.personClaim.trim() ? form.personKey : undefined,
})
const version = ref(props.provider?.version)
const save = useMutation({
  mutationFn: (tag: string | void) =>
    props.provider
      ? ok(
          api.PUT('/api/v1/providers/{id}', {
            params: { path: { id: props.provider.id }, header: ifMatch(tag || version.value) },
            body: body(),
          }),
        )
      : ok(api.POST('/api/v1/providers', { body: body() })),
  onSuccess: (p) => {
    letGo()
    emit('saved', p)
  },
})
const remove = useMutation({
  mutationFn: () =>
    ok(api.DELETE('/api/v1/providers/{id}', { params: { path: { id: props.provider!.id } } })),
  onSuccess: () => {
    letGo()
    emit('saved')
  },
})
async function now() {
  const p = await ok(api.GET('/api/v1/providers/{id}', { params: { path: { id: props.provider!.id } } }))
  return { ...drawn(p), secret: '' }
}
const believes = [
  { value: 'none' as const, label: $t('settings.believesNone') },
  { value: 'verified' as const, label: $t('settings.believesVerified') },
  { value: 'all' as const, label: $t('settings.believesAll') },
]
const admits = [
  { value: 'invited' as const, label: $t('settings.admitsInvited') },
  { value: 'mapped' as const, label: $t('settings.admitsMapped') },
]
const keys = [
  { value: 'identifier' as const, label: $t('settings.keyIdentifier') },
  { value: 'email' as const, label: $t('settings.keyEmail') },
]
</script>

<template>
  <FormDialog
    :title="provider ? $t('common.editName', { name: provider.name }) : $t('settings.addProvider')"
    :submit="provider ? $t('common.save') : $t('settings.add1')"
    width="44rem"
    :sending="save.isPending.value"
    :unready="!form.name || !form.issuer || !form.clientId"
    :error="save.error.value ?? remove.error.value"
    :typed="form"
    :now="provider ? now : undefined"
    :over="provider ? (tag: string) => save.mutate(tag) : undefined"
    @close="emit('close')"
    @submit="save.mutate()"
  >
    <div v-if="provider" class="sheet values">
      <p>{{ $t('settings.enterThere') }}</p>
      <dl>
        <dt>{{ $t('settings.backTo') }}</dt>
        <dd>
          <code>{{ provider.backTo }}</code>
        </dd>
        <dt>{{ $t('settings.signedOutAt') }}</dt>
        <dd>
          <code>{{ provider.signedOut }}</code>
        </dd>
        <dt>{{ $t('settings.logoutAt') }}</dt>
        <dd>
          <code>{{ provider.logoutAt }}</code>
        </dd>
      </dl>
    </div>
    <TextField
      id="provider-name"
      v-model="form.name"
      name="name"
      required
      :label="$t('common.name')"
      :help="$t('settings.providerNameHelp')"
    />
    <TextField
      id="provider-issuer"
      v-model="form.issuer"
      name="issuer"
      required
      code
      :label="$t('settings.providerAddress')"
      :help="$t('settings.providerAddressHelp')"
    />
    <div class="two">
      <TextField
        id="provider-client"
        v-model="form.clientId"
        name="clientId"
        required
        code
        :label="$t('settings.client')"
      />
      <TextField
        id="provider-secret"
        v-model="form.secret"
        name="secret"
        type="password"
        autocomplete="off"
        :label="$t('settings.clientSecret')"
        :help="provider?.hasSecret ? $t('settings.secretKept') : undefined"
      />
    </div>
    <ChoiceField
      id="provider-admits"
      v-model="form.admits"
      name="admits"
      :label="$t('settings.admits')"
      :options="admits"
    />
    <ChoiceField
      id="provider-believes"
      v-model="form.believes"
      name="believes"
      :label="$t('settings.believes')"
      :help="$t('settings.believesHelp')"
      :options="believes"
    />
    <div class="two">
      <TextField
        id="provider-person"
        v-model="form.personClaim"
        name="personClaim"
        code
        :label="$t('settings.personClaim')"
        :help="$t('settings.personClaimHelp')"
      />
      <ChoiceField
        v-if="form.personClaim.trim()"
        id="provider-key"
        v-model="form.personKey"
        name="personKey"
        :label="$t('settings.personKey')"
        :options="keys"
      />
    </div>
    <h3>{{ $t('settings.rolesFromClaims') }}</h3>
    <ul class="given">
      <li v-for="(m, i) in form.mappings" :key="i">
        {{ given(m) }}
        <Button
          size="small"
          variant="text"
          :label="$t('settings.endRole')"
          :aria-label="$t('settings.endRoleNamed', { role: given(m) })"
          @click="form.mappings.splice(i, 1)"
        />
      </li>
      <li v-if="!form.mappings.length" class="faint">{{ $t('settings.noRoleByClaims') }}</li>
    </ul>
    <div class="two">
      <TextField
        id="provider-claim"
        v-model="claim.claim"
        code
        :label="$t('settings.claim')"
        :help="$t('settings.claimHelp')"
      />
      <TextField
        id="provider-value"
        v-model="claim.value"
        :label="$t('settings.claimValue')"
        :help="$t('settings.claimValueHelp')"
      />
    </div>
    <RoleFields v-model="grant" />
    <Button
      size="small"
      variant="outlined"
      :label="$t('settings.addRoleByClaim')"
      :disabled="!whole"
      @click="add"
    />
    <details>
      <summary>{{ $t('settings.more') }}</summary>
      <TextField
        id="provider-scopes"
        v-model="form.scopes"
        name="scopes"
        code
        :label="$t('settings.scopes')"
        :help="$t('settings.scopesHelp')"
      />
    </details>
    <TickField id="provider-on" v-model="form.on" :label="$t('settings.providerIsOn')" />
    <p v-if="provider">
      <Button
        size="small"
        severity="danger"
        variant="text"
        :label="$t('settings.removeProvider')"
        @click="remove.mutate()"
      />
    </p>
  </FormDialog>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 0 1rem;
}

.values {
  padding: 0.6rem 0.9rem;
  margin-bottom: 0.6rem;
}

.values p {
  margin: 0;
}

dl {
  display: grid;
  grid-template-columns: max-content 1fr;
  gap: 0.1rem 0.8rem;
  margin: 0.3rem 0 0;
}

dd {
  margin: 0;
  overflow-wrap: anywhere;
}

.given {
  margin: 0;
  padding: 0;
  list-style: none;
}

h3 {
  margin: 0.8rem 0 0.2rem;
}

@media (max-width: 40rem) {
  .two,
  dl {
    grid-template-columns: 1fr;
  }
}
</style>
