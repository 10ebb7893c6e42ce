<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import Oops from '../../parts/Oops.vue'
import Outside from '../../parts/Outside.vue'
import { when } from '../../parts/when'
import { useServices } from '../connections/interface'

/** A person's accounts, and a choice by hand between those that could be theirs. */
const props = defineProps<{ personId: string; accounts: Schemas['Account'][] }>()
const queries = useQueryClient()
const services = useServices()
const looking = ref('')
const at = (service: string) => ({ params: { path: { id: props.personId, interface: service } } })
const candidates = useQuery({
  queryKey: ['candidates', () => props.personId, looking],
  queryFn: () => ok(api.GET('/api/v1/people/{id}/accounts/{interface}', at(looking.value))),
  enabled: computed(() => !!looking.value),
  retry: false,
})
const refresh = () =>
  Promise.all(['candidates', 'events'].map((k) => queries.invalidateQueries({ queryKey: [k] })))
const decide = useMutation({
  mutationFn: ({ service, ...body }: { service?: string; accountId: string; not: boolean }) =>
    ok(api.PUT('/api/v1/people/{id}/accounts/{interface}', { ...at(service ?? looking.value), body })),
  onSuccess: refresh,
})
const forget = useMutation({
  mutationFn: (service: string) => ok(api.DELETE('/api/v1/people/{id}/accounts/{interface}', at(service))),
  onSuccess: refresh,
})
</script>

<template>
  <p v-for="a in accounts" :key="a.interface + a.remoteId">
    <template v-if="a.denied">{{ $t('people.not') }}{{ ' ' }}</template
    >{{ a.interface }}
    <code><Outside :to="a.page" :text="a.remoteId" /></code>
    <span v-if="a.by" class="faint">{{ ' ' }}{{ $t('people.saidBy', { by: a.by, at: when(a.at) }) }}</span>
    <Button
      v-if="a.by"
      size="small"
      variant="text"
      :label="$t('people.forget')"
      @click="forget.mutate(a.interfaceId)"
    />
    <Button
      v-if="services && !a.denied && !services.some((s) => s.id === a.interfaceId)"
      size="small"
      variant="text"
      :label="$t('people.isNotTheirs', { accountId: a.remoteId })"
      @click="decide.mutate({ service: a.interfaceId, accountId: a.remoteId, not: true })"
    />
  </p>
  <p v-if="!accounts.length" class="faint">{{ $t('people.noneKnownYet') }}</p>
  <p v-for="c in services" :key="c.id">
    <Button
      v-if="looking !== c.id"
      size="small"
      variant="outlined"
      :label="$t('people.chooseByHandAt', { name: c.name })"
      @click="looking = c.id"
    />
  </p>
  <Oops :error="candidates.error.value ?? decide.error.value ?? forget.error.value" />
  <div v-if="looking && candidates.data.value" class="sheet">
    <p v-if="!candidates.data.value.items.length" class="faint">{{ $t('people.noAccountThereCouldBe') }}</p>
    <div v-for="c in candidates.data.value.items" :key="c.accountId" class="candidate">
      <span
        >{{ c.name }} <span class="faint">{{ c.email }} · {{ c.userName }}</span
        ><br /><span class="faint"
          >{{ $t('people.equal', { evidence: c.evidence.join(', ') || $t('common.nothing') })
          }}<template v-if="!c.active">{{ ' ' }}{{ $t('people.notActive') }}</template></span
        ></span
      >
      <span class="actions">
        <b v-if="c.stored">{{ $t('people.theirs') }}</b><b v-if="c.denied">{{ $t('people.notTheirs') }}</b>
        <Button
          v-if="!c.stored"
          size="small"
          variant="outlined"
          :label="$t('people.isTheirs')"
          :aria-label="$t('people.isTheirsAccountId', { accountId: c.accountId })"
          @click="decide.mutate({ accountId: c.accountId, not: false })"
        />
        <Button
          v-if="!c.denied"
          size="small"
          variant="text"
          :label="$t('people.isNot')"
          :aria-label="$t('people.isNotTheirs', { accountId: c.accountId })"
          @click="decide.mutate({ accountId: c.accountId, not: true })"
        />
      </span>
    </div>
  </div>
</template>

<style scoped>
p {
  margin: 0.2rem 0;
}

.sheet {
  padding: 0.4rem 0.8rem;
}

.candidate {
  display: flex;
  justify-content: space-between;
  gap: 1rem;
  padding: 0.35rem 0;
  border-bottom: 1px solid var(--hair);
  font-size: 13px;
}

.candidate:last-child {
  border: 0;
}

.actions {
  flex-wrap: nowrap;
}
</style>
