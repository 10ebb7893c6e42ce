<script setup lang="ts">
import { useMutation, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, reactive, ref } from 'vue'

import { api, ok, Problem, type Schemas } from '../../api/client'
import { useVersion } from '../../parts/draft'
import Frame from '../../parts/form/Frame.vue'
import Oops from '../../parts/Oops.vue'
import { useKinds, valuesOf } from './interface'
import InterfaceFields from './InterfaceFields.vue'
import Made from './Made.vue'

/** Adds an interface to a connection, or changes one. */
const props = defineProps<{ connection: Schemas['Connection']; edit?: Schemas['Interface'] }>()
const emit = defineEmits<{ close: [] }>()
const queries = useQueryClient()
const from = useVersion(props.edit?.version)
const draft = reactive({
  kind: props.edit?.kind ?? 'oneroster',
  label: props.edit?.label ?? '',
  values: { ...props.edit?.settings } as Record<string, string>,
  removed: [] as string[], // secrets that are taken away
})
const others = computed(() => props.connection.interfaces.some((i) => i.id !== props.edit?.id))
const made = ref<Record<string, string> | undefined>()
const kinds = useKinds()

const save = useMutation({
  mutationFn: async (untested?: boolean) => {
    const kind = kinds.data.value?.find((k) => k.name === draft.kind)
    const takenOut = (k: string) => !!props.edit?.settings[k] || draft.removed.includes(k)
    const values = valuesOf(kind, draft.values, takenOut)
    const i = props.edit
      ? await ok(
          api.PATCH('/api/v1/interfaces/{id}', {
            params: { path: { id: props.edit.id }, header: from.header.value },
            body: { label: draft.label, values, untested },
          }),
        )
      : await ok(
          api.POST('/api/v1/connections/{id}/interfaces', {
            params: { path: { id: props.connection.id } },
            body: { kind: draft.kind, label: draft.label, values },
          }),
        )
    // What it finds shows on the page; that it could not be asked must not lose what was made.
    await api.POST('/api/v1/interfaces/{id}/probe', { params: { path: { id: i.id } } }).catch(() => undefined)
    return i
  },
  onSuccess: async (i) => {
    await queries.invalidateQueries({ queryKey: ['connections'] })
    void queries.invalidateQueries({ queryKey: ['interfaces'] })
    if (i.made && Object.keys(i.made).length) made.value = i.made
    else emit('close')
  },
})
const wrong = computed(() => (save.error.value instanceof Problem ? save.error.value.fields : {}))
</script>

<template>
  <Frame
    :of="save"
    :title="
      edit
        ? $t('common.editName', { name: edit.name })
        : $t('connections.addInterfaceTo', { name: connection.name })
    "
    width="36rem"
    :stays="!!made"
    @close="emit('close')"
  >
    <template v-if="made">
      <p>{{ $t('connections.addedEnterTheseValuesAt') }}</p>
      <Made :made="made" />
      <Button :label="$t('common.done')" @click="emit('close')" />
    </template>
    <form v-else @submit.prevent="save.mutate(undefined)">
      <InterfaceFields
        v-model="draft"
        :edit="!!edit"
        :wrong="wrong"
        :others="others"
        :address="connection.address"
      />
      <Oops :error="save.error.value" :over="(tag) => (from.over(tag), save.mutate(undefined))" />
      <Button
        v-if="wrong.code === 'values-not-tested'"
        size="small"
        variant="outlined"
        :label="$t('connections.saveThemAllSame')"
        @click="save.mutate(true)"
      />
      <div class="actions">
        <Button type="submit" :label="$t('connections.saveAndTest')" :loading="save.isPending.value" />
        <Button type="button" variant="text" :label="$t('common.cancel')" @click="emit('close')" />
      </div>
    </form>
  </Frame>
</template>
