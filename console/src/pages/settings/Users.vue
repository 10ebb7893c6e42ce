<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { computed, reactive, ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import { people, person } from '../../parts/find'
import Finder from '../../parts/Finder.vue'
import FormDialog from '../../parts/form/FormDialog.vue'
import TextField from '../../parts/form/TextField.vue'
import { letGo } from '../../parts/form/typed'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import { when } from '../../parts/when'
import { word } from '../../parts/words'
import { $t } from '../../texts'
import RoleFields from './RoleFields.vue'
import { roleText } from './roles'

/** Who may sign in, and as what. */
type Grant = Partial<Schemas['NewRoleGrant']>
const queries = useQueryClient()
const list = useQuery({ queryKey: ['users'], queryFn: () => ok(api.GET('/api/v1/users')) })
const invited = ref<Schemas['Invitation']>()
const inviting = ref(false)
const editing = ref<Schemas['User']>()
const form = reactive({ name: '', email: '', personId: '' })
const grant = ref<Grant>({})

function begin(u?: Schemas['User']) {
  Object.assign(form, { name: u?.name ?? '', email: u?.email ?? '', personId: u?.personId ?? '' })
  grant.value = { scope: 'institution' }
  editing.value = u
  inviting.value = !u
}
function done() {
  letGo()
  editing.value = undefined
  inviting.value = false
  void queries.invalidateQueries({ queryKey: ['users'] })
}
/** Shows what somebody is now, in the dialog too. */
function changed(u: Schemas['User']) {
  editing.value = u
  grant.value = { scope: 'institution' }
  void queries.invalidateQueries({ queryKey: ['users'] })
}
const invite = useMutation({
  mutationFn: () =>
    ok(
      api.POST('/api/v1/users', {
        body: { ...form, grant: grant.value.role ? (grant.value as Schemas['NewRoleGrant']) : undefined },
      }),
    ),
  onSuccess: (in_) => {
    invited.value = in_
    done()
  },
})
const again = useMutation({
  mutationFn: (id: string) => ok(api.POST('/api/v1/users/{id}/invitation', { params: { path: { id } } })),
  onSuccess: (in_) => (invited.value = in_),
})
const edit = useMutation({
  mutationFn: () =>
    ok(api.PATCH('/api/v1/users/{id}', { params: { path: { id: editing.value!.id } }, body: { ...form } })),
  onSuccess: done,
})
const give = useMutation({
  mutationFn: () =>
    ok(
      api.POST('/api/v1/users/{id}/grants', {
        params: { path: { id: editing.value!.id } },
        body: grant.value as Schemas['NewRoleGrant'],
      }),
    ),
  onSuccess: changed,
})
const end = useMutation({
  mutationFn: (id: string) =>
    ok(
      api.DELETE('/api/v1/users/{id}/grants/{grant}', {
        params: { path: { id: editing.value!.id, grant: id } },
      }),
    ),
  onSuccess: changed,
})
const remove = useMutation({
  mutationFn: () => ok(api.DELETE('/api/v1/users/{id}', { params: { path: { id: editing.value!.id } } })),
  onSuccess: done,
})
const endCodes = useMutation({
  mutationFn: () =>
    ok(api.DELETE('/api/v1/users/{id}/codes', { params: { path: { id: editing.value!.id } } })),
  onSuccess: done,
})
const all = [invite, edit, give, end, remove, endCodes]
const sending = computed(() => all.some((m) => m.isPending.value))
const trouble = computed(() => all.map((m) => m.error.value).find((e) => e))
/** Whether a role is said whole: what is in a part of the institution names the part. */
const whole = computed(
  () => !!grant.value.role && (grant.value.scope === 'institution' || !!grant.value.scopeId),
)
const unready = computed(() =>
  editing.value
    ? !form.name || !form.email
    : (!form.personId && (!form.name || !form.email || !whole.value)) || (!!grant.value.role && !whole.value),
)
</script>

<template>
  <PageHead :title="$t('shell.users')" :about="$t('settings.usersAbout')">
    <Button size="small" :label="$t('settings.inviteSomebody')" @click="begin()" />
  </PageHead>
  <Oops :error="again.error.value" />
  <div v-if="invited" role="status" class="sheet invited">
    <p v-if="invited.mailed">{{ $t('settings.invitationMailed', { email: invited.user.email }) }}</p>
    <template v-else>
      <p>{{ $t('settings.invitationLink', { name: invited.user.name, why: invited.why }) }}</p>
      <code>{{ invited.link }}</code>
    </template>
  </div>
  <Listing
    :rows="list.data.value?.items"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    :empty="$t('settings.nobodyMaySignIn')"
  >
    <Column :header="$t('common.name')">
      <template #body="{ data }"
        >{{ data.name }} <small class="faint below">{{ data.email }}</small></template
      >
    </Column>
    <Column :header="$t('settings.roles')">
      <template #body="{ data }">
        <ul class="roles">
          <li v-for="g in data.grants" :key="g.id">{{ roleText(g) }}</li>
          <li v-if="data.personId">{{ $t('settings.asRegisterSays') }}</li>
        </ul>
      </template>
    </Column>
    <Column :header="$t('common.state')">
      <template #body="{ data }"
        >{{ word(`user-${data.state}`) }}
        <small v-if="data.signedInAt" class="faint below">{{
          $t('settings.signedInAt', { at: when(data.signedInAt) })
        }}</small>
        <small v-else-if="data.invitedBy" class="faint below">{{
          $t('settings.invitedBy', { by: data.invitedBy, at: when(data.createdAt) })
        }}</small>
        <small v-if="data.codes" class="faint below">{{ $t('settings.withCodes') }}</small>
        <small v-if="data.providers?.length" class="faint below">{{
          $t('settings.signsInBy', { providers: data.providers.join(', ') })
        }}</small></template
      >
    </Column>
    <Column>
      <template #body="{ data }">
        <Button
          size="small"
          variant="outlined"
          :label="$t('settings.changeUser')"
          :aria-label="$t('settings.changeUserNamed', { name: data.name })"
          @click="begin(data)"
        />
        <Button
          size="small"
          variant="text"
          :label="$t('settings.newLink')"
          :aria-label="$t('settings.newLinkNamed', { name: data.name })"
          @click="again.mutate(data.id)"
        />
      </template>
    </Column>
  </Listing>
  <FormDialog
    v-if="inviting || editing"
    :title="editing ? $t('settings.changeUserNamed', { name: editing.name }) : $t('settings.inviteSomebody')"
    :submit="editing ? $t('common.save') : $t('settings.invite')"
    :sending="sending"
    :unready="unready"
    :error="trouble"
    :typed="form"
    @close="done"
    @submit="editing ? edit.mutate() : invite.mutate()"
  >
    <div class="field">
      <label for="user-person">{{ $t('settings.personOfRegister') }}</label>
      <Finder
        v-model="form.personId"
        input-id="user-person"
        :label="$t('sections.nameAddressOrIdentifier')"
        :search="people"
        :named="person"
      />
      <small class="faint">{{ $t('settings.personOfRegisterHelp') }}</small>
    </div>
    <TextField id="user-name" v-model="form.name" name="name" :label="$t('common.name')" />
    <TextField id="user-email" v-model="form.email" name="email" :label="$t('enter.eMailAddress')" />
    <template v-if="editing">
      <h3>{{ $t('settings.roles') }}</h3>
      <ul class="roles">
        <li v-for="g in editing.grants" :key="g.id">
          {{ roleText(g) }}
          <Button
            size="small"
            variant="text"
            :label="$t('settings.endRole')"
            :aria-label="$t('settings.endRoleNamed', { role: roleText(g) })"
            @click="end.mutate(g.id)"
          />
        </li>
        <li v-if="!editing.grants.length" class="faint">{{ $t('settings.noRole') }}</li>
      </ul>
    </template>
    <RoleFields v-model="grant" />
    <p v-if="editing" class="row">
      <Button
        size="small"
        variant="outlined"
        :label="$t('settings.giveRole')"
        :disabled="!whole"
        @click="give.mutate()"
      />
      <Button
        v-if="editing.codes"
        size="small"
        variant="text"
        :label="$t('settings.endCodes')"
        @click="endCodes.mutate()"
      />
      <Button
        size="small"
        severity="danger"
        variant="text"
        :label="$t('settings.letInNoMore')"
        @click="remove.mutate()"
      />
    </p>
  </FormDialog>
</template>

<style scoped>
.invited {
  padding: 0.7rem 0.9rem;
  margin: 0.5rem 0;
}

.invited p {
  margin: 0 0 0.3rem;
}

.roles {
  margin: 0;
  padding: 0;
  list-style: none;
}

h3 {
  margin: 0.8rem 0 0.2rem;
}

.row {
  display: flex;
  justify-content: space-between;
}

code {
  overflow-wrap: anywhere;
}
</style>
