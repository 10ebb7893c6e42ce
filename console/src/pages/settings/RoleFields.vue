<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, watch } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import { courses, sections } from '../../parts/find'
import Finder from '../../parts/Finder.vue'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import { $t } from '../../texts'
import { rolesThereAre } from './roles'

/** A role, and where it is had. */
const grant = defineModel<Partial<Schemas['NewRoleGrant']>>({ required: true })
type Role = Schemas['NewRoleGrant']['role']
type Scope = NonNullable<Schemas['NewRoleGrant']['scope']>

const about: Record<Role, string> = {
  administrator: $t('settings.administratorMay'),
  operator: $t('settings.operatorMay'),
  support: $t('settings.supportMay'),
  reader: $t('settings.readerMay'),
  awarder: $t('settings.awarderMay'),
}
const known = useQuery(rolesThereAre)
const roles = computed(
  () =>
    known.data.value?.items
      .filter((r) => r.given)
      .map((r) => ({ value: r.role as Role, label: about[r.role as Role] })) ?? [],
)
const where: Record<Scope, string> = {
  institution: $t('settings.wholeInstitution'),
  organisation: $t('settings.oneOrganisation'),
  course: $t('settings.oneCourse'),
  section: $t('settings.oneSection'),
}
const scopes = computed(
  () =>
    known.data.value?.items
      .find((r) => r.role === grant.value.role)
      ?.scopes.map((s) => ({ value: s as Scope, label: where[s as Scope] })) ?? [],
)
/** Whether a role can be had in a part of the institution. */
const inPart = computed(() => scopes.value.length > 1)
watch(
  () => [grant.value.role, grant.value.scope],
  ([role, scope], [, before]) => {
    if (role && !inPart.value) Object.assign(grant.value, { scope: 'institution', scopeId: undefined })
    if (scope !== before) grant.value.scopeId = undefined
    if (role !== 'awarder') grant.value.issuerId = undefined
  },
)
const organisations = useQuery({
  queryKey: ['organisations'],
  queryFn: () => ok(api.GET('/api/v1/organisations')),
  enabled: computed(() => grant.value.scope === 'organisation'),
})
const issuers = useQuery({
  queryKey: ['issuers'],
  queryFn: () => ok(api.GET('/api/v1/issuers')),
  enabled: computed(() => grant.value.role === 'awarder'),
})
const id = computed({
  get: () => grant.value.scopeId ?? '',
  set: (v) => (grant.value.scopeId = v || undefined),
})
</script>

<template>
  <ChoiceField id="user-role" v-model="grant.role" name="role" :label="$t('common.role')" :options="roles" />
  <ChoiceField
    v-if="inPart"
    id="user-scope"
    v-model="grant.scope"
    name="scope"
    :label="$t('settings.where')"
    :options="scopes"
  />
  <ChoiceField
    v-if="inPart && grant.scope === 'organisation'"
    id="user-organisation"
    v-model="grant.scopeId"
    name="scopeId"
    :label="$t('settings.organisationAndBelow')"
    :options="
      organisations.data.value?.items.map((o) => ({ value: o.id, label: o.name, apart: o.type })) ?? []
    "
  />
  <div v-if="inPart && (grant.scope === 'course' || grant.scope === 'section')" class="field">
    <label for="user-scope-id">{{
      grant.scope === 'course' ? $t('common.course') : $t('common.section')
    }}</label>
    <Finder
      :key="grant.scope"
      v-model="id"
      input-id="user-scope-id"
      :label="$t('settings.titleOrCode')"
      :search="grant.scope === 'course' ? courses : sections"
    />
  </div>
  <ChoiceField
    v-if="grant.role === 'awarder'"
    id="user-issuer"
    v-model="grant.issuerId"
    name="issuerId"
    :label="$t('settings.badgesOf')"
    :options="issuers.data.value?.items.map((i) => ({ value: i.id, label: i.name })) ?? []"
    :placeholder="$t('settings.allIssuers')"
    clear
  />
</template>
