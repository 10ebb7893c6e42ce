<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import { ref, watch } from 'vue'

import type { Schemas } from '../../api/client'
import Choices from './Choices.vue'
import Expression from './Expression.vue'

/** Named values of an action, each an expression, with what to use when it is missing. */
const action = defineModel<Schemas['Action']>({ required: true })
const props = defineProps<{
  number: number
  trigger: string
  known?: Schemas['OperationField'][]
  interfaceId?: string
  operation?: string
}>()
type Line = { name: string; value: string; fallback: string }
const lines = ref<Line[]>(
  Object.entries(action.value.fields ?? {}).map(([name, value]) => ({
    name,
    value,
    fallback: action.value.fallbacks?.[name] ?? '',
  })),
)
// What an operation needs is asked for.
watch(
  () => props.known,
  (known) => {
    for (const f of known ?? [])
      if (!lines.value.some((l) => l.name === f.name) && f.required)
        lines.value.push({ name: f.name, value: f.name === 'email' ? 'person.email' : '', fallback: '' })
  },
  { immediate: true },
)
watch(
  lines,
  (all) => {
    const named = all.filter((l) => l.name.trim() && l.value.trim())
    action.value.fields = Object.fromEntries(named.map((l) => [l.name.trim(), l.value]))
    action.value.fallbacks = Object.fromEntries(
      named.filter((l) => l.fallback).map((l) => [l.name.trim(), l.fallback]),
    )
  },
  { deep: true },
)
</script>

<template>
  <table>
    <thead>
      <tr>
        <th>Value</th>
        <th>Expression</th>
        <th>If missing</th>
        <th></th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="(l, i) in lines" :key="i">
        <td><InputText v-model="l.name" size="small" :aria-label="`Name of value ${i + 1}`" /></td>
        <td>
          <Expression :id="`value-${number}-${i}`" v-model="l.value" kind="value" :trigger="trigger" />
          <Choices
            v-if="interfaceId && operation && known?.find((f) => f.name === l.name)?.listPath"
            :interface-id="interfaceId"
            :operation="operation"
            :field="l.name"
            :label="l.name"
            @choose="(v) => (l.value = JSON.stringify(v))"
          />
        </td>
        <td>
          <InputText v-model="l.fallback" size="small" :aria-label="`Instead of ${l.name} if missing`" />
        </td>
        <td>
          <Button
            size="small"
            variant="text"
            label="×"
            :aria-label="`Drop ${l.name}`"
            @click="lines.splice(i, 1)"
          />
        </td>
      </tr>
    </tbody>
  </table>
  <Button
    class="more"
    size="small"
    variant="text"
    label="+ value"
    @click="lines.push({ name: '', value: '', fallback: '' })"
  />
</template>

<style scoped>
table {
  width: 100%;
  border-collapse: collapse;
}

th {
  text-align: left;
  font-size: 12px;
  font-weight: 400;
  color: var(--faint);
}

td {
  padding: 0.15rem 0.4rem 0.15rem 0;
  vertical-align: top;
}

td:first-child {
  width: 8rem;
}

td:nth-child(3) {
  width: 8rem;
}

td :deep(input) {
  width: 100%;
}

.more {
  margin-bottom: 0.6rem;
}
</style>
