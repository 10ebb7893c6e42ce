<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { computed, reactive } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import NumberField from '../../parts/form/NumberField.vue'
import TextField from '../../parts/form/TextField.vue'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import { when } from '../../parts/when'
import { word } from '../../parts/words'
import { $t } from '../../texts'
import { rolesThereAre } from '../settings/roles'

/** The tokens of programs that call the API in one's own name. */
type Role = NonNullable<Schemas['NewToken']['role']>
const queries = useQueryClient()
const list = useQuery({ queryKey: ['own-tokens'], queryFn: () => ok(api.GET('/api/v1/tokens')) })
const form = reactive<{ name: string; role?: Role; days?: number }>({ name: '' })
const again = () => queries.invalidateQueries({ queryKey: ['own-tokens'] })
const make = useMutation({
  mutationFn: () =>
    ok(api.POST('/api/v1/tokens', { body: { name: form.name.trim(), role: form.role, days: form.days } })),
  onSuccess: () => {
    Object.assign(form, { name: '', role: undefined, days: undefined })
    void again()
  },
})
const end = useMutation({
  mutationFn: (id: string) => ok(api.DELETE('/api/v1/tokens/{id}', { params: { path: { id } } })),
  onSettled: again,
})
/** The roles that a token of theirs can be held to. */
const known = useQuery(rolesThereAre)
const roles = computed(
  () =>
    known.data.value?.items
      .filter((r) => r.token)
      .map((r) => ({ value: r.role as Role, label: word(r.role) })) ?? [],
)
</script>

<template>
  <h2>{{ $t('mine.tokens') }}</h2>
  <p class="faint">{{ $t('mine.tokensAbout') }}</p>
  <form class="new" @submit.prevent="make.mutate()">
    <TextField id="token-name" v-model="form.name" name="name" :label="$t('mine.tokenFor')" />
    <ChoiceField
      id="token-role"
      v-model="form.role"
      name="role"
      :label="$t('mine.tokenRole')"
      :options="roles"
      :placeholder="$t('mine.allThatIMay')"
      clear
    />
    <NumberField id="token-days" v-model="form.days" name="days" :label="$t('mine.tokenDays')" />
    <Button
      type="submit"
      size="small"
      variant="outlined"
      :label="$t('mine.makeToken')"
      :disabled="!form.name.trim()"
      :loading="make.isPending.value"
    />
  </form>
  <p v-if="make.data.value" class="sheet made" role="status">
    {{ $t('mine.copyToken') }} <code>{{ make.data.value.token }}</code>
  </p>
  <Oops :error="make.error.value ?? end.error.value" />
  <Listing
    :rows="list.data.value?.items"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    :empty="$t('mine.noToken')"
  >
    <Column field="name" :header="$t('common.name')" />
    <Column :header="$t('common.role')"
      ><template #body="{ data }">{{
        data.role ? word(data.role) : $t('mine.allThatIMay')
      }}</template></Column
    >
    <Column :header="$t('mine.used')"
      ><template #body="{ data }">{{
        data.lastUsedAt ? when(data.lastUsedAt) : $t('common.never')
      }}</template></Column
    >
    <Column :header="$t('mine.expires')"
      ><template #body="{ data }">{{
        data.expired ? $t('mine.expired') : data.expiresAt ? when(data.expiresAt) : $t('common.never')
      }}</template></Column
    >
    <Column>
      <template #body="{ data }">
        <Button
          size="small"
          variant="text"
          :label="$t('mine.endToken')"
          :aria-label="$t('mine.endTokenOf', { name: data.name })"
          @click="end.mutate(data.id)"
        />
      </template>
    </Column>
  </Listing>
</template>

<style scoped>
.new {
  display: flex;
  flex-wrap: wrap;
  gap: 0.8rem;
  align-items: end;
  margin-bottom: 0.8rem;
}

.new :deep(.field) {
  margin: 0;
}

.made {
  padding: 0.5rem 0.8rem;
  overflow-wrap: anywhere;
}
</style>
