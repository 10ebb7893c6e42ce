<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, watch } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import { courses, sections } from '../../parts/find'
import Finder from '../../parts/Finder.vue'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import { $t } from '../../texts'

/** A role, and where it is had. */
const grant = defineModel<Partial<Schemas['NewRoleGrant']>>({ required: true })
type Role = Schemas['NewRoleGrant']['role']
type Scope = NonNullable<Schemas['NewRoleGrant']['scope']>

const roles: { value: Role; label: string }[] = [
  { value: 'administrator', label: $t('settings.administratorMay') },
  { value: 'operator', label: $t('settings.operatorMay') },
  { value: 'support', label: $t('settings.supportMay') },
  { value: 'reader', label: $t('settings.readerMay') },
  { value: 'awarder', label: $t('settings.awarderMay') },
]
const scopes: { value: Scope; label: string }[] = [
  { value: 'institution', label: $t('settings.wholeInstitution') },
  { value: 'organisation', label: $t('settings.oneOrganisation') },
  { value: 'course', label: $t('settings.oneCourse') },
  { value: 'section', label: $t('settings.oneSection') },
]
/** Whether a role can be had in a part of the institution. */
const inPart = computed(() => ['operator', 'support', 'awarder'].includes(grant.value.role ?? ''))
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
