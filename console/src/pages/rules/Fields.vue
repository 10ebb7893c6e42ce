<script setup lang="ts">
import Button from 'primevue/button'
import { ref, watch } from 'vue'

import type { Schemas } from '../../api/client'
import TextField from '../../parts/form/TextField.vue'
import Choices from './Choices.vue'
import Expression from './Expression.vue'

/** Named values of an action, each an expression, with what to use when it is missing. */
const action = defineModel<Schemas['Action']>({ required: true })
const props = defineProps<{
  /** What is done, or what reverts it. */
  of: 'fields' | 'undoFields'
  handle: string
  trigger: string
  known?: Schemas['OperationField'][]
  interfaceId?: string
  operation?: string
}>()
type Line = { key: number; name: string; value: string; fallback: string }
let keys = 0
const line = (name = '', value = '', fallback = ''): Line => ({ key: keys++, name, value, fallback })
const lines = ref<Line[]>(
  Object.entries(action.value[props.of] ?? {}).map(([name, value]) =>
    line(name, value, action.value.fallbacks?.[name] ?? ''),
  ),
)
// What an operation needs is asked for.
watch(
  () => props.known,
  (known) => {
    for (const f of known ?? [])
      if (!lines.value.some((l) => l.name === f.name) && f.required)
        lines.value.push(line(f.name, f.name === 'email' ? 'person.email' : ''))
  },
  { immediate: true },
)
watch(
  lines,
  (all) => {
    const named = all.filter((l) => l.name.trim() && l.value.trim())
    action.value[props.of] = Object.fromEntries(named.map((l) => [l.name.trim(), l.value]))
    if (props.of === 'fields')
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
        <th>{{ $t('rules.value') }}</th>
        <th>{{ $t('rules.expression') }}</th>
        <th>{{ of === 'fields' ? $t('rules.ifMissing') : '' }}</th>
        <th></th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="(l, i) in lines" :key="l.key">
        <td><TextField v-model="l.name" hidden :label="$t('rules.nameOfValue', { i: i + 1 })" /></td>
        <td>
          <Expression
            :id="`value-${handle}-${of}-${l.key}`"
            v-model="l.value"
            kind="value"
            :label="$t('rules.valueOfName', { name: l.name || $t('rules.valueI', { i: i + 1 }) })"
            :trigger="trigger"
          />
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
          <TextField
            v-if="of === 'fields'"
            v-model="l.fallback"
            hidden
            :label="$t('rules.insteadOfIfMissing', { name: l.name })"
          />
        </td>
        <td>
          <Button
            size="small"
            variant="text"
            type="button"
            label="×"
            :aria-label="$t('rules.drop', { name: l.name })"
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
    :label="$t('rules.valueLabel')"
    type="button"
    @click="lines.push(line())"
  />
</template>

<style scoped>
table {
  width: 100%;
  border-collapse: collapse;
}

th {
  text-align: start;
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
