<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { computed, ref, watch } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import ManyField from '../../parts/form/ManyField.vue'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import { word } from '../../parts/words'
import { $t } from '../../texts'
import ProviderForm from './ProviderForm.vue'
import ProviderTrial from './ProviderTrial.vue'
import { rolesThereAre } from './roles'

/** How people sign in: which roles need one-time codes, and at which providers. */
const queries = useQueryClient()
const settings = useQuery({
  queryKey: ['sign-in-settings'],
  queryFn: () => ok(api.GET('/api/v1/sign-in-settings')),
})
const known = useQuery(rolesThereAre)
const needed = ref<string[]>([])
watch(
  () => settings.data.value,
  (now) => (needed.value = [...(now?.codesRequired ?? [])]),
  { immediate: true },
)
const roles = computed(
  () => known.data.value?.items.map((r) => ({ value: r.role, label: word(r.role) })) ?? [],
)
const keep = useMutation({
  mutationFn: () => ok(api.PUT('/api/v1/sign-in-settings', { body: { codesRequired: needed.value } })),
  onSuccess: (now) => queries.setQueryData(['sign-in-settings'], now),
})
const changed = computed(
  () => [...needed.value].sort().join() !== [...(settings.data.value?.codesRequired ?? [])].sort().join(),
)

type Provider = Schemas['Provider']
const list = useQuery({ queryKey: ['providers'], queryFn: () => ok(api.GET('/api/v1/providers')) })
const editing = ref<Provider | 'new'>()
const trying = ref<Provider>()
const check = useMutation({
  mutationFn: async (p: Provider) => ({
    ...(await ok(api.POST('/api/v1/providers/{id}/check', { params: { path: { id: p.id } } }))),
    name: p.name,
  }),
})
function saved(p?: Provider) {
  editing.value = undefined
  void queries.invalidateQueries({ queryKey: ['providers'] })
  if (p) check.mutate(p)
}
</script>

<template>
  <PageHead :title="$t('shell.signIn')" :about="$t('settings.signInAbout')" />
  <h2>{{ $t('mine.codes') }}</h2>
  <form class="codes" @submit.prevent="keep.mutate()">
    <ManyField
      id="codes-required"
      v-model="needed"
      name="codesRequired"
      :label="$t('settings.codesRequired')"
      :help="$t('settings.codesRequiredHelp')"
      :options="roles"
      :placeholder="$t('settings.forNoRole')"
    />
    <Button
      type="submit"
      size="small"
      variant="outlined"
      :label="$t('common.save')"
      :disabled="!changed"
      :loading="keep.isPending.value"
    />
  </form>
  <Oops :error="keep.error.value ?? settings.error.value" />
  <div class="head">
    <h2>{{ $t('settings.providers') }}</h2>
    <Button size="small" :label="$t('settings.addProvider')" @click="editing = 'new'" />
  </div>
  <p class="faint">{{ $t('settings.providersAbout') }}</p>
  <Oops :error="check.error.value" />
  <p v-if="check.data.value" role="status" :class="['sheet', 'checked', { bad: !check.data.value.ok }]">
    {{
      check.data.value.ok
        ? check.data.value.lacks.length
          ? $t('settings.providerLacks', {
              name: check.data.value.name,
              scopes: check.data.value.lacks.join(', '),
            })
          : $t('settings.providerAnswers', { name: check.data.value.name })
        : $t('settings.providerTrouble', { name: check.data.value.name, why: check.data.value.trouble })
    }}
  </p>
  <Listing
    :rows="list.data.value?.items"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    :empty="$t('settings.noProvider')"
  >
    <Column :header="$t('common.name')">
      <template #body="{ data }"
        >{{ data.name }} <small class="faint below">{{ data.issuer }}</small></template
      >
    </Column>
    <Column :header="$t('common.state')">
      <template #body="{ data }"
        >{{ data.on ? $t('settings.providerOn') : $t('settings.providerOff') }}
        <small class="faint below">{{
          $t('settings.signInThere', { many: data.users }, data.users)
        }}</small></template
      >
    </Column>
    <Column :header="$t('settings.gives')">
      <template #body="{ data }">
        {{ data.admits === 'mapped' ? $t('settings.admitsMapped') : $t('settings.admitsInvited') }}
        <small v-if="data.mappings.length" class="faint below">{{
          $t('settings.rolesByClaims', { many: data.mappings.length }, data.mappings.length)
        }}</small>
      </template>
    </Column>
    <Column>
      <template #body="{ data }">
        <Button
          size="small"
          variant="outlined"
          :label="$t('common.edit')"
          :aria-label="$t('common.editName', { name: data.name })"
          @click="editing = data"
        />
        <Button
          size="small"
          variant="text"
          :label="$t('settings.check')"
          :aria-label="$t('settings.checkNamed', { name: data.name })"
          @click="check.mutate(data)"
        />
        <Button
          size="small"
          variant="text"
          :label="$t('settings.tryClaims')"
          :aria-label="$t('settings.tryClaimsOf', { name: data.name })"
          @click="trying = data"
        />
      </template>
    </Column>
  </Listing>
  <ProviderForm
    v-if="editing"
    :provider="editing === 'new' ? undefined : editing"
    @close="editing = undefined"
    @saved="saved"
  />
  <ProviderTrial v-if="trying" :provider="trying" @close="trying = undefined" />
</template>

<style scoped>
.codes {
  display: flex;
  gap: 0.8rem;
  align-items: center;
  max-width: 40rem;
}

.codes :deep(.field) {
  flex: 1;
}

.head {
  display: flex;
  justify-content: space-between;
  align-items: center;
  margin-top: 1.2rem;
}

.checked {
  padding: 0.5rem 0.8rem;
}

.bad {
  color: var(--signal);
}
</style>
