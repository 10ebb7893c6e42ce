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
  account: 'the account stored for the person',
  identifier: "the institution's identifier, or one in another system",
  email: 'the e-mail address',
  'user-name': 'the user name',
}
function up(i: number) {
  const list = m.value!.keys
  list.splice(i - 1, 0, ...list.splice(i, 1))
}
const missing = computed(() => Object.keys(keys).filter((k) => !m.value?.keys.includes(k)))
function conditions(x: Schemas['Exclusion']) {
  return [x.secondAccounts && 'second account of a person already in', x.testLearners && 'test learner']
    .filter(Boolean)
    .join(', ')
}
const rows = computed(() => preview.data.value?.items.map((t, i) => ({ key: i, ...t })))
</script>

<template>
  <PageHead
    :title="`Who is who at ${service.data.value?.name ?? ''}`"
    about="By what people are recognised, in this order, and who is left out. It serves every pairing with this interface."
  >
    <RouterLink to="/connections">to the connections</RouterLink>
    <Button
      size="small"
      variant="outlined"
      label="Whom would it touch?"
      :disabled="!changed"
      :loading="preview.isPending.value"
      @click="preview.mutate()"
    />
    <Button
      size="small"
      label="Save"
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
      <h2>Recognised by</h2>
      <ol>
        <li v-for="(k, i) in m.keys" :key="k">
          {{ keys[k] }}
          <span class="actions">
            <Button
              v-if="i"
              size="small"
              variant="text"
              label="Earlier"
              :aria-label="`${k} earlier`"
              @click="up(i)"
            />
            <Button
              v-if="m.keys.length > 1"
              size="small"
              variant="text"
              label="Never"
              :aria-label="`never by ${k}`"
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
        :label="`Also by ${keys[k]}`"
        @click="m.keys.push(k)"
      />
      <p class="faint">
        The first one that finds an account decides. Two accounts are never chosen between: a person does
        that.
      </p>
    </section>
    <section>
      <h2>Domains that changed</h2>
      <div v-for="(d, i) in m.domains" :key="i" class="rule">
        <TextField
          :id="`from-${i}`"
          v-model="d.from"
          placeholder="old.school.example"
          hidden
          label="Old domain"
        />
        →
        <TextField :id="`to-${i}`" v-model="d.to" placeholder="school.example" hidden label="New domain" />
        <ChoiceField
          v-model="d.role"
          hidden
          label="For whom"
          :options="[
            { value: undefined, label: 'everybody' },
            { value: 'student', label: 'students' },
            { value: 'teacher', label: 'teachers' },
          ]"
        />
        <Button size="small" variant="text" label="Drop" @click="m.domains.splice(i, 1)" />
      </div>
      <Button
        size="small"
        variant="outlined"
        label="Add a domain"
        @click="m.domains.push({ from: '', to: '' })"
      />
      <p class="faint">
        Both addresses are one person's; the new one is what the service gets. The register's stays.
      </p>
      <h2>Left out on purpose</h2>
      <div v-for="(x, i) in m.exclude" :key="i" class="rule">
        <TextField v-model="x.name" placeholder="Name, shown as the reason" hidden label="Name of the rule" />
        <span v-if="conditions(x)" class="faint">{{ conditions(x) }}</span>
        <template v-else>
          <TextField
            v-model="x.userName"
            placeholder="user name, e.g. guest-*"
            hidden
            label="Pattern on the user name"
          />
          <TextField
            v-model="x.email"
            placeholder="address, e.g. office.*"
            hidden
            label="Pattern on the address"
          />
          <TextField v-model="x.organisation" placeholder="organisation" hidden label="Organisation" />
          <TextField v-model="x.role" placeholder="role" hidden label="Role" />
        </template>
        <Button
          size="small"
          variant="text"
          label="Drop"
          :aria-label="`Drop ${x.name}`"
          @click="m.exclude.splice(i, 1)"
        />
      </div>
      <Button size="small" variant="outlined" label="Add a rule" @click="m.exclude.push({ name: '' })" />
    </section>
  </div>
  <template v-if="rows">
    <h2>Whom it would touch</h2>
    <Listing
      :rows="rows"
      :loading="false"
      :error="null"
      empty="Nobody who is in a paired section now."
      :next="{ to: '/sections?state=not-paired', text: 'Pair a section' }"
      row-key="key"
    >
      <Column header="Person"
        ><template #body="{ data }"
          ><RouterLink :to="`/people/${data.personId}`">{{ data.name }}</RouterLink>
          <span class="faint">{{ data.role }}</span></template
        ></Column
      >
      <Column field="section" header="Section" />
      <Column field="effect" header="What would be different" />
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
