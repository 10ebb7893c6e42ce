<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { computed, watch } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import { useDraft } from '../../parts/draft'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import TextField from '../../parts/form/TextField.vue'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import { $t } from '../../texts'

const props = defineProps<{ id: string }>()
const queries = useQueryClient()
const path = computed(() => ({ params: { path: { id: props.id } } }))
const service = useQuery({
  queryKey: ['interfaces', () => props.id],
  queryFn: () => ok(api.GET('/api/v1/interfaces/{id}', path.value)),
})
const kept = useQuery({
  queryKey: ['matching', () => props.id],
  queryFn: () => ok(api.GET('/api/v1/interfaces/{id}/matching', path.value)),
  structuralSharing: false,
})
const edited = useDraft<Schemas['Matching']>(kept.data)
const { draft: m, changed } = edited
const preview = useMutation({
  mutationFn: () =>
    ok(api.POST('/api/v1/interfaces/{id}/matching/preview', { ...path.value, body: m.value! })),
})
const save = useMutation({
  mutationFn: () =>
    ok(
      api.PUT('/api/v1/interfaces/{id}/matching', {
        params: { path: { id: props.id }, header: edited.header.value },
        body: m.value!,
      }),
    ),
  onSuccess: () => {
    edited.kept()
    preview.reset()
    return queries.invalidateQueries({ queryKey: ['matching'] })
  },
})
watch(m, () => preview.reset(), { deep: true })

const keys: Record<string, string> = {
  account: $t('connections.accountStoredForPerson'),
  identifier: $t('connections.institutionsIdentifierOrOneIn'),
  email: $t('connections.email'),
  'user-name': $t('connections.userName'),
}
function up(i: number) {
  const list = m.value!.keys
  list.splice(i - 1, 0, ...list.splice(i, 1))
}
const missing = computed(() => Object.keys(keys).filter((k) => !m.value?.keys.includes(k)))
function conditions(x: Schemas['Exclusion']) {
  return [
    x.secondAccounts && $t('connections.secondAccountOfPersonAlready'),
    x.testLearners && $t('connections.testLearner'),
  ]
    .filter(Boolean)
    .join(', ')
}
const rows = computed(() => preview.data.value?.items.map((t, i) => ({ key: i, ...t })))
</script>

<template>
  <PageHead
    :title="$t('connections.whoIsWhoAt', { name: service.data.value?.name ?? '' })"
    :about="$t('connections.byWhatPeopleAreRecognised')"
  >
    <RouterLink to="/connections">{{ $t('connections.toConnections') }}</RouterLink>
    <Button
      size="small"
      variant="outlined"
      :label="$t('connections.whomWouldItTouch')"
      :disabled="!changed"
      :loading="preview.isPending.value"
      @click="preview.mutate()"
    />
    <Button
      size="small"
      :label="$t('common.save')"
      :disabled="!changed || !preview.data.value"
      :loading="save.isPending.value"
      @click="save.mutate()"
    />
  </PageHead>
  <Oops
    :error="kept.error.value ?? preview.error.value ?? save.error.value"
    :over="(tag) => (edited.over(tag), save.mutate())"
  />
  <div v-if="m" class="two">
    <section>
      <h2>{{ $t('connections.recognisedBy') }}</h2>
      <ol>
        <li v-for="(k, i) in m.keys" :key="k">
          {{ keys[k] }}
          <span class="actions">
            <Button
              v-if="i"
              size="small"
              variant="text"
              :label="$t('connections.earlier')"
              :aria-label="$t('connections.earlierK', { k })"
              @click="up(i)"
            />
            <Button
              v-if="m.keys.length > 1"
              size="small"
              variant="text"
              :label="$t('connections.never')"
              :aria-label="$t('connections.neverBy', { k })"
              @click="m.keys.splice(i, 1)"
            />
          </span>
        </li>
      </ol>
      <Button
        v-for="k in missing"
        :key="k"
        size="small"
        variant="outlined"
        :label="$t('connections.alsoBy', { keys: keys[k] })"
        @click="m.keys.push(k)"
      />
      <p class="faint">{{ $t('connections.firstOneThatFindsAccount') }}</p>
    </section>
    <section>
      <h2>{{ $t('connections.domainsThatChanged') }}</h2>
      <div v-for="(d, i) in m.domains" :key="i" class="rule">
        <TextField
          :id="`from-${i}`"
          v-model="d.from"
          placeholder="old.school.example"
          hidden
          :label="$t('connections.oldDomain')"
        />
        →
        <TextField
          :id="`to-${i}`"
          v-model="d.to"
          placeholder="school.example"
          hidden
          :label="$t('connections.newDomain')"
        />
        <ChoiceField
          v-model="d.role"
          hidden
          :label="$t('connections.forWhom')"
          :options="[
            { value: undefined, label: $t('connections.everybody') },
            { value: 'student', label: $t('connections.students') },
            { value: 'teacher', label: $t('connections.teachers') },
          ]"
        />
        <Button size="small" variant="text" :label="$t('common.drop')" @click="m.domains.splice(i, 1)" />
      </div>
      <Button
        size="small"
        variant="outlined"
        :label="$t('connections.addDomain')"
        @click="m.domains.push({ from: '', to: '' })"
      />
      <p class="faint">{{ $t('connections.bothAddressesAreOnePersons') }}</p>
      <h2>{{ $t('connections.leftOutOnPurpose') }}</h2>
      <div v-for="(x, i) in m.exclude" :key="i" class="rule">
        <TextField
          v-model="x.name"
          :placeholder="$t('connections.nameShownAsReason')"
          hidden
          :label="$t('common.nameOfRule')"
        />
        <span v-if="conditions(x)" class="faint">{{ conditions(x) }}</span>
        <template v-else>
          <TextField
            v-model="x.userName"
            :placeholder="$t('connections.userNameEGGuest')"
            hidden
            :label="$t('connections.patternOnUserName')"
          />
          <TextField
            v-model="x.email"
            :placeholder="$t('connections.addressEGOffice')"
            hidden
            :label="$t('connections.patternOnAddress')"
          />
          <TextField
            v-model="x.organisation"
            :placeholder="$t('connections.organisation')"
            hidden
            :label="$t('connections.organisationLabel')"
          />
          <TextField
            v-model="x.role"
            :placeholder="$t('connections.role')"
            hidden
            :label="$t('common.role')"
          />
        </template>
        <Button
          size="small"
          variant="text"
          :label="$t('common.drop')"
          :aria-label="$t('connections.drop', { name: x.name })"
          @click="m.exclude.splice(i, 1)"
        />
      </div>
      <Button
        size="small"
        variant="outlined"
        :label="$t('connections.addRule')"
        @click="m.exclude.push({ name: '' })"
      />
    </section>
  </div>
  <template v-if="rows">
    <h2>{{ $t('connections.whomItWouldTouch') }}</h2>
    <Listing
      :rows="rows"
      :loading="false"
      :error="null"
      :empty="$t('connections.nobodyWhoIsInPaired')"
      :next="{ to: '/sections?state=not-paired', text: $t('connections.pairSection') }"
      row-key="key"
    >
      <Column :header="$t('common.person')"
        ><template #body="{ data }"
          ><RouterLink :to="`/people/${data.personId}`">{{ data.name }}</RouterLink>
          <span class="faint">{{ data.role }}</span></template
        ></Column
      >
      <Column field="section" :header="$t('common.section')" />
      <Column field="effect" :header="$t('connections.whatWouldBeDifferent')" />
    </Listing>
  </template>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: 1fr 1.7fr;
  gap: 2rem;
}

ol {
  padding-inline-start: 1.2rem;
  margin: 0;
}

li {
  padding: 0.15rem 0;
}

li {
  border-bottom: 1px solid var(--hair);
}

li .actions {
  float: inline-end;
  gap: 0;
}

li::after {
  content: '';
  display: block;
  clear: both;
}

.rule {
  display: flex;
  gap: 0.5rem;
  align-items: center;
  margin-bottom: 0.4rem;
}

.rule :deep(input) {
  min-width: 0;
  flex: 1;
}

.rule span {
  flex: 2;
}
</style>
