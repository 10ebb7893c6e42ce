<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { reactive, ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import FormDialog from '../../parts/form/FormDialog.vue'
import TextField from '../../parts/form/TextField.vue'
import { letGo } from '../../parts/form/typed'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import { when } from '../../parts/when'
import { word } from '../../parts/words'
import { $t } from '../../texts'

/** Who may sign in, and as what. */
type Role = Schemas['User']['role']
const queries = useQueryClient()
const list = useQuery({ queryKey: ['users'], queryFn: () => ok(api.GET('/api/v1/users')) })
const roles: { value: Role; label: string }[] = [
  { value: 'administrator', label: $t('settings.administratorMay') },
  { value: 'operator', label: $t('settings.operatorMay') },
  { value: 'support', label: $t('settings.supportMay') },
  { value: 'reader', label: $t('settings.readerMay') },
]
const invited = ref<Schemas['Invitation']>()
const inviting = ref(false)
const editing = ref<Schemas['User']>()
const form = reactive<{ name: string; email: string; role?: Role }>({ name: '', email: '' })

function begin(u?: Schemas['User']) {
  Object.assign(form, { name: u?.name ?? '', email: u?.email ?? '', role: u?.role })
  editing.value = u
  inviting.value = !u
}
function done() {
  letGo()
  editing.value = undefined
  inviting.value = false
  void queries.invalidateQueries({ queryKey: ['users'] })
}
const invite = useMutation({
  mutationFn: () =>
    ok(api.POST('/api/v1/users', { body: { name: form.name, email: form.email, role: form.role! } })),
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
const remove = useMutation({
  mutationFn: () => ok(api.DELETE('/api/v1/users/{id}', { params: { path: { id: editing.value!.id } } })),
  onSuccess: done,
})
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
    <Column :header="$t('common.role')">
      <template #body="{ data }">{{ word(data.role) }}</template>
    </Column>
    <Column :header="$t('common.state')">
      <template #body="{ data }"
        >{{ word(`user-${data.state}`) }}
        <small v-if="data.signedInAt" class="faint below">{{
          $t('settings.signedInAt', { at: when(data.signedInAt) })
        }}</small>
        <small v-else-if="data.invitedBy" class="faint below">{{
          $t('settings.invitedBy', { by: data.invitedBy, at: when(data.createdAt) })
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
    :sending="invite.isPending.value || edit.isPending.value || remove.isPending.value"
    :unready="!form.name || !form.email || !form.role"
    :error="invite.error.value ?? edit.error.value ?? remove.error.value"
    :typed="form"
    @close="done"
    @submit="editing ? edit.mutate() : invite.mutate()"
  >
    <TextField id="user-name" v-model="form.name" name="name" :label="$t('common.name')" />
    <TextField id="user-email" v-model="form.email" name="email" :label="$t('enter.eMailAddress')" />
    <ChoiceField id="user-role" v-model="form.role" name="role" :label="$t('common.role')" :options="roles" />
    <p v-if="editing">
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

code {
  overflow-wrap: anywhere;
}
</style>
