<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, reactive, ref } from 'vue'

import { api, ifMatch, ok, tagOf, type Schemas } from '../../api/client'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import TextField from '../../parts/form/TextField.vue'
import TickField from '../../parts/form/TickField.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import { useInterfaces } from './interface'

/** The calls of a service's own API: defined and tried here, used by rules. */
const props = defineProps<{ id: string }>()
const queries = useQueryClient()
const path = computed(() => ({ params: { path: { id: props.id } } }))
const interfaces = useInterfaces()
const name = computed(() => interfaces.data.value?.items.find((c) => c.id === props.id)?.name ?? '')
const list = useQuery({
  queryKey: ['operations', () => props.id],
  queryFn: () => ok(api.GET('/api/v1/interfaces/{id}/operations', path.value)),
})
const blank = (): Schemas['Operation'] => ({ name: '', title: '', method: 'POST', path: '/', fields: [] })
const o = ref(blank())
const editing = ref(false)
const from = ref('') // the state from which it is edited
const values = reactive<Record<string, string>>({})
const one = (n: string) => ({ params: { path: { id: props.id, name: n } } })
const refresh = () => queries.invalidateQueries({ queryKey: ['operations'] })
const save = useMutation({
  mutationFn: () =>
    ok(
      api.PUT('/api/v1/interfaces/{id}/operations/{name}', {
        params: { path: { id: props.id, name: o.value.name }, header: ifMatch(from.value) },
        body: { ...o.value, fields: o.value.fields.filter((f) => f.name.trim()) },
      }),
    ),
  onSuccess: (kept) => {
    from.value = tagOf(kept)
    return refresh()
  },
})
const drop = useMutation({
  mutationFn: (n: string) => ok(api.DELETE('/api/v1/interfaces/{id}/operations/{name}', one(n))),
  onSuccess: refresh,
})
const attempt = useMutation({
  mutationFn: () =>
    ok(
      api.POST('/api/v1/interfaces/{id}/operations/{name}/try', {
        ...one(o.value.name),
        body: { values: Object.fromEntries(Object.entries(values).filter(([, v]) => v)) },
      }),
    ),
})
async function edit(x: Schemas['Operation']) {
  from.value = ''
  if (x.name) {
    x = await ok(api.GET('/api/v1/interfaces/{id}/operations/{name}', one(x.name)))
    from.value = tagOf(x)
  }
  o.value = JSON.parse(JSON.stringify(x)) as Schemas['Operation']
  for (const k of Object.keys(values)) delete values[k]
  attempt.reset()
  editing.value = true
}
</script>

<template>
  <PageHead :title="$t('connections.operationsOf', { name })" :about="$t('connections.whatRulesCanAskThis')">
    <RouterLink to="/connections">{{ $t('connections.connections') }}</RouterLink>
    <Button size="small" :label="$t('connections.defineOperation')" @click="edit(blank())" />
  </PageHead>
  <Oops :error="list.error.value ?? drop.error.value" />
  <p v-if="list.data.value && !list.data.value.length" class="sheet empty faint">
    {{ $t('connections.noOperationYetDefineOne') }}
  </p>
  <article v-for="x in list.data.value" :key="x.name" class="sheet line">
    <b>{{ x.title }}</b>
    <code>{{ x.method }} {{ x.path }}</code>
    <span class="faint"
      >{{ x.fields.map((f) => f.name).join(', ')
      }}<template v-if="x.undo">{{ $t('connections.revertedBy', { undo: x.undo }) }}</template></span
    >
    <span class="actions">
      <Button size="small" variant="text" :label="$t('connections.editAndTry')" @click="edit(x)" />
      <Button size="small" variant="text" :label="$t('common.remove')" @click="drop.mutate(x.name)" />
    </span>
  </article>
  <form v-if="editing" class="sheet form" @submit.prevent="save.mutate()">
    <div class="row">
      <TextField v-model="o.name" :label="$t('common.name')" placeholder="add-label" />
      <TextField v-model="o.title" :label="$t('connections.whatItDoes')" />
      <ChoiceField
        v-model="o.method"
        :label="$t('connections.method')"
        :options="
          (
            [
              $t('connections.post'),
              $t('connections.put'),
              $t('connections.patch'),
              $t('connections.delete'),
              $t('connections.get'),
            ] as const
          ).map((m) => ({ value: m, label: m }))
        "
      />
      <TextField
        v-model="o.path"
        class="wide"
        :label="$t('connections.path')"
        :placeholder="$t('connections.contactsEmailLabels')"
      />
    </div>
    <table>
      <thead>
        <tr>
          <th>{{ $t('connections.value') }}</th>
          <th>{{ $t('connections.needed') }}</th>
          <th>{{ $t('connections.listedAt') }}</th>
          <th>{{ $t('connections.as') }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(f, i) in o.fields" :key="i">
          <td><TextField v-model="f.name" hidden :label="$t('connections.valueI', { i: i + 1 })" /></td>
          <td>
            <TickField v-model="f.required" hidden :label="$t('connections.isNeeded', { name: f.name })" />
          </td>
          <td>
            <TextField
              v-model="f.listPath"
              placeholder="/labels"
              hidden
              :label="$t('connections.whereIsListed', { name: f.name })"
            />
          </td>
          <td>
            <TextField
              v-model="f.list"
              placeholder="answer.body"
              hidden
              :label="$t('connections.howIsListed', { name: f.name })"
            />
          </td>
        </tr>
      </tbody>
    </table>
    <Button
      size="small"
      variant="text"
      :label="$t('connections.valueLabel')"
      @click="o.fields.push({ name: '' })"
    />
    <div class="row">
      <TextField
        v-model="o.success"
        class="wide"
        :label="$t('connections.itWorkedWhen')"
        :placeholder="$t('connections.every2xxAnswer')"
      />
    </div>
    <div class="row">
      <TextField
        v-model="o.proofPath"
        :label="$t('connections.seenThereAt')"
        :placeholder="$t('connections.noLookUp')"
      />
      <TextField
        v-model="o.proof"
        class="wide"
        :label="$t('connections.when')"
        :placeholder="$t('connections.answerValuesLabelInAnswer')"
      />
      <ChoiceField
        v-model="o.undo"
        :label="$t('connections.revertedByLabel')"
        :options="[
          { value: undefined, label: $t('common.nothing') },
          ...(list.data.value ?? []).map((x) => ({ value: x.name, label: x.title })),
        ]"
      />
    </div>
    <Oops :error="save.error.value" :over="(tag) => ((from = tag), save.mutate())" />
    <div class="actions">
      <Button type="submit" size="small" :label="$t('common.save')" :loading="save.isPending.value" />
      <Button
        type="button"
        size="small"
        variant="text"
        :label="$t('common.close')"
        @click="editing = false"
      />
    </div>
    <template v-if="list.data.value?.some((x) => x.name === o.name)">
      <h2>
        {{ $t('connections.tryIt') }} <span class="faint">{{ $t('connections.forReal') }}</span>
      </h2>
      <div class="row">
        <TextField v-for="f in o.fields" :key="f.name" v-model="values[f.name]" :label="f.name" />
        <Button
          type="button"
          size="small"
          variant="outlined"
          :label="$t('connections.callItNow')"
          @click="attempt.mutate()"
        />
      </div>
      <Oops :error="attempt.error.value" />
      <p v-if="attempt.data.value" :class="{ urgent: !attempt.data.value.worked }" role="status">
        {{ attempt.data.value.worked ? $t('connections.itWorked') : $t('connections.itDidNotWork') }}
        {{ attempt.data.value.problem }}
        <span class="faint">{{ attempt.data.value.status || '' }} {{ attempt.data.value.answer }}</span>
      </p>
    </template>
  </form>
</template>

<style scoped>
.line {
  display: grid;
  grid-template-columns: 16rem 22rem 1fr auto;
  gap: 1rem;
  align-items: center;
  padding: 0.5rem 1rem;
  margin-bottom: 0.4rem;
}

.form,
.empty {
  padding: 1rem;
}

.row {
  display: flex;
  gap: 1rem;
  align-items: flex-end;
  margin: 0.5rem 0;
}

.row label {
  display: grid;
  font-size: 12.5px;
}

.row .wide {
  flex: 1;
}

th {
  text-align: start;
  font-weight: 400;
  font-size: 12px;
  color: var(--faint);
}

.urgent {
  color: var(--signal);
}

@media (max-width: 1000px) {
  .line {
    grid-template-columns: minmax(0, 1fr);
    gap: 0.3rem;
  }

  .row {
    flex-wrap: wrap;
  }
}
</style>
