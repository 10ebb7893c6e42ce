<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import { computed, reactive, ref } from 'vue'

import { api, ok, Problem, type Schemas } from '../../api/client'
import { useVersion } from '../../parts/draft'
import Oops from '../../parts/Oops.vue'
import FieldInput from './FieldInput.vue'

const props = defineProps<{ edit?: Schemas['Connection'] }>()
const emit = defineEmits<{ close: [] }>()
const queries = useQueryClient()
const from = useVersion(props.edit?.version)
const kinds = useQuery({
  queryKey: ['kinds'],
  queryFn: () => ok(api.GET('/api/v1/kinds')),
  staleTime: Infinity,
})
const kind = ref(props.edit?.kind ?? 'oneroster')
const name = ref(props.edit?.name ?? '')
const values = reactive<Record<string, string>>({ ...props.edit?.settings })
const chosen = computed(() => kinds.data.value?.find((k) => k.name === kind.value))
const fields = computed(() => chosen.value?.fields.filter((f) => !f.made || props.edit) ?? [])
const made = ref<Record<string, string> | undefined>()

const save = useMutation({
  mutationFn: async (untested?: boolean) => {
    const own = new Set(fields.value.map((f) => f.name))
    const given = Object.fromEntries(Object.entries(values).filter(([k, v]) => own.has(k) && v !== ''))
    const c = props.edit
      ? await ok(
          api.PATCH('/api/v1/connections/{id}', {
            params: { path: { id: props.edit.id }, header: from.header.value },
            body: { name: name.value, values: given, untested },
          }),
        )
      : await ok(
          api.POST('/api/v1/connections', { body: { kind: kind.value, name: name.value, values: given } }),
        )
    // What it finds shows on the page; that it could not be asked must not lose what was made.
    await api
      .POST('/api/v1/connections/{id}/probe', { params: { path: { id: c.id } } })
      .catch(() => undefined)
    return c
  },
  onSuccess: async (c) => {
    await queries.invalidateQueries({ queryKey: ['connections'] })
    if (c.made && Object.keys(c.made).length) made.value = c.made
    else emit('close')
  },
})
const wrong = computed(() => (save.error.value instanceof Problem ? save.error.value.fields : {}))
const copy = (text: string) => navigator.clipboard.writeText(text)
</script>

<template>
  <Dialog
    :visible="true"
    modal
    :closable="!made"
    :close-on-escape="!made"
    :header="edit ? `Edit ${edit.name}` : 'Connect a system'"
    :style="{ width: '36rem' }"
    @update:visible="emit('close')"
  >
    <template v-if="made">
      <p>Connected. Enter these values at the other side now; the secret is not shown again.</p>
      <div v-for="(v, k) in made" :key="k" class="made">
        <span class="faint">{{ k }}</span> <code>{{ v }}</code>
        <Button size="small" variant="text" label="Copy" @click="copy(v)" />
      </div>
      <Button label="Done" @click="emit('close')" />
    </template>
    <form v-else @submit.prevent="save.mutate(undefined)">
      <div v-if="!edit" class="field">
        <label for="kind">What is it?</label>
        <select id="kind" v-model="kind">
          <option v-for="k in kinds.data.value" :key="k.name" :value="k.name">{{ k.title }}</option>
        </select>
        <small>{{ chosen?.about }}</small>
      </div>
      <div class="field">
        <label for="name">Name</label>
        <InputText
          id="name"
          v-model="name"
          :invalid="'name' in wrong"
          placeholder="By which people know it"
        />
      </div>
      <FieldInput
        v-for="f in fields.filter((x) => !x.rare)"
        :key="f.name"
        v-model="values[f.name]"
        :field="f"
        :kept="!!edit"
        :invalid="`values.${f.name}` in wrong"
      />
      <details v-if="fields.some((x) => x.rare)">
        <summary>Seldom needed</summary>
        <FieldInput
          v-for="f in fields.filter((x) => x.rare)"
          :key="f.name"
          v-model="values[f.name]"
          :field="f"
          :kept="!!edit"
          :invalid="`values.${f.name}` in wrong"
        />
      </details>
      <Oops :error="save.error.value" :over="(tag) => (from.over(tag), save.mutate(undefined))" />
      <Button
        v-if="wrong.code === 'values-not-tested'"
        size="small"
        variant="outlined"
        label="Save them all the same"
        @click="save.mutate(true)"
      />
      <div class="actions">
        <Button type="submit" label="Save and test" :loading="save.isPending.value" />
        <Button type="button" variant="text" label="Cancel" @click="emit('close')" />
      </div>
    </form>
  </Dialog>
</template>

<style scoped>
details {
  margin-bottom: 0.8rem;
}

summary {
  cursor: pointer;
  margin-bottom: 0.5rem;
}

.made {
  display: grid;
  grid-template-columns: 5rem 1fr auto;
  gap: 0.6rem;
  align-items: center;
  padding: 0.2rem 0;
}

code {
  overflow-wrap: anywhere;
}
</style>
