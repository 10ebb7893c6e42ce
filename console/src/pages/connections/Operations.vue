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
  <PageHead :title="`Operations of ${name}`" about="What rules can ask this service to do">
    <RouterLink to="/connections">Connections</RouterLink>
    <Button size="small" label="Define an operation…" @click="edit(blank())" />
  </PageHead>
  <Oops :error="list.error.value ?? drop.error.value" />
  <p v-if="list.data.value && !list.data.value.length" class="sheet empty faint">
    No operation yet. Define one from the service’s own description of its API.
  </p>
  <article v-for="x in list.data.value" :key="x.name" class="sheet line">
    <b>{{ x.title }}</b>
    <code>{{ x.method }} {{ x.path }}</code>
    <span class="faint"
      >{{ x.fields.map((f) => f.name).join(', ')
      }}<template v-if="x.undo">; reverted by {{ x.undo }}</template></span
    >
    <span class="actions">
      <Button size="small" variant="text" label="Edit and try…" @click="edit(x)" />
      <Button size="small" variant="text" label="Remove" @click="drop.mutate(x.name)" />
    </span>
  </article>
  <form v-if="editing" class="sheet form" @submit.prevent="save.mutate()">
    <div class="row">
      <TextField v-model="o.name" label="Name" placeholder="add-label" />
      <TextField v-model="o.title" label="What it does" />
      <ChoiceField
        v-model="o.method"
        label="Method"
        :options="(['POST', 'PUT', 'PATCH', 'DELETE', 'GET'] as const).map((m) => ({ value: m, label: m }))"
      />
      <TextField v-model="o.path" class="wide" label="Path" placeholder="/contacts/{email}/labels" />
    </div>
    <table>
      <thead>
        <tr>
          <th>Value</th>
          <th>Needed</th>
          <th>Listed at</th>
          <th>As</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(f, i) in o.fields" :key="i">
          <td><TextField v-model="f.name" hidden :label="`Value ${i + 1}`" /></td>
          <td><TickField v-model="f.required" hidden :label="`${f.name} is needed`" /></td>
          <td>
            <TextField
              v-model="f.listPath"
              placeholder="/labels"
              hidden
              :label="`Where ${f.name} is listed`"
            />
          </td>
          <td>
            <TextField v-model="f.list" placeholder="answer.body" hidden :label="`How ${f.name} is listed`" />
          </td>
        </tr>
      </tbody>
    </table>
    <Button size="small" variant="text" label="+ value" @click="o.fields.push({ name: '' })" />
    <div class="row">
      <TextField v-model="o.success" class="wide" label="It worked when" placeholder="every 2xx answer" />
    </div>
    <div class="row">
      <TextField v-model="o.proofPath" label="Seen there at" placeholder="no look-up" />
      <TextField
        v-model="o.proof"
        class="wide"
        label="when"
        placeholder="answer.values.label in answer.body.labels"
      />
      <ChoiceField
        v-model="o.undo"
        label="Reverted by"
        :options="[
          { value: undefined, label: 'nothing' },
          ...(list.data.value ?? []).map((x) => ({ value: x.name, label: x.title })),
        ]"
      />
    </div>
    <Oops :error="save.error.value" :over="(tag) => ((from = tag), save.mutate())" />
    <div class="actions">
      <Button type="submit" size="small" label="Save" :loading="save.isPending.value" />
      <Button type="button" size="small" variant="text" label="Close" @click="editing = false" />
    </div>
    <template v-if="list.data.value?.some((x) => x.name === o.name)">
      <h2>Try it <span class="faint">for real</span></h2>
      <div class="row">
        <TextField v-for="f in o.fields" :key="f.name" v-model="values[f.name]" :label="f.name" />
        <Button type="button" size="small" variant="outlined" label="Call it now" @click="attempt.mutate()" />
      </div>
      <Oops :error="attempt.error.value" />
      <p v-if="attempt.data.value" :class="{ urgent: !attempt.data.value.worked }" role="status">
        {{ attempt.data.value.worked ? '● It worked' : '▲ It did not work:' }}
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
