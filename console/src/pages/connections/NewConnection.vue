<script setup lang="ts">
import { useMutation, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, reactive, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, ok, Problem, type Schemas } from '../../api/client'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import { useKinds, valuesOf } from './interface'
import InterfaceFields from './InterfaceFields.vue'
import Made from './Made.vue'
import { drafted, sent } from './system'
import SystemFields from './SystemFields.vue'

/** Connects an outside system with all its interfaces at once. */
const router = useRouter()
const queries = useQueryClient()
const kinds = useKinds()
const system = reactive(drafted())
let made = 0
const fresh = (kind: string) => ({ key: made++, kind, label: '', values: {} as Record<string, string> })
// Where one comes from may say what is to be connected.
const interfaces = ref([fresh(String(useRoute().query.kind ?? 'oneroster'))])
const connected = ref<Schemas['Connection'] | undefined>()
const shown = computed(
  () => connected.value?.interfaces.filter((i) => Object.keys(i.made ?? {}).length) ?? [],
)
const save = useMutation({
  mutationFn: async () => {
    const c = await ok(
      api.POST('/api/v1/connections', {
        body: {
          ...sent(system),
          interfaces: interfaces.value.map(({ kind, label, values }) => ({
            kind,
            label,
            values: valuesOf(
              kinds.data.value?.find((k) => k.name === kind),
              values,
            ),
          })),
        },
      }),
    )
    // What is found shows on the next page; that it could not be asked must not lose what was made.
    await Promise.all(
      c.interfaces.map((i) =>
        api.POST('/api/v1/interfaces/{id}/probe', { params: { path: { id: i.id } } }).catch(() => undefined),
      ),
    )
    return c
  },
  onSuccess: (c) => {
    void queries.invalidateQueries()
    connected.value = c
    if (!shown.value.length) void router.push(`/connections/${c.id}`)
  },
})
const wrong = computed(() => (save.error.value instanceof Problem ? save.error.value.fields : {}))
/** What was refused of one interface, by its own fields. */
const wrongOf = (n: number) =>
  Object.fromEntries(
    Object.entries(wrong.value)
      .filter(([k]) => k.startsWith(`interfaces[${n}].`))
      .map(([k, v]) => [k.slice(`interfaces[${n}].`.length), v]),
  )
</script>

<template>
  <PageHead :title="$t('common.connectSystem')" :about="$t('connections.whatIsSameForAll')" />
  <section v-if="connected && shown.length" class="sheet">
    <p>
      {{ $t('connections.isConnectedEnterTheseValues', { name: connected.name }) }}
    </p>
    <Made v-for="i in shown" :key="i.id" :name="i.name" :made="i.made!" />
    <div class="actions">
      <Button :label="$t('common.done')" @click="router.push(`/connections/${connected.id}`)" />
    </div>
  </section>
  <form v-else class="sheet" @submit.prevent="save.mutate()">
    <div class="columns">
      <section class="system">
        <h2>{{ $t('connections.system') }}</h2>
        <SystemFields v-model="system" :wrong="wrong" />
      </section>
      <section>
        <fieldset v-for="(x, n) in interfaces" :key="x.key">
          <legend>
            {{ $t('connections.interface', { interfaces: interfaces.length > 1 ? n + 1 : '' }) }}
            <Button
              v-if="interfaces.length > 1"
              type="button"
              size="small"
              variant="text"
              :label="$t('connections.leaveOut')"
              :aria-label="$t('connections.leaveOutInterface', { n: n + 1 })"
              @click="interfaces.splice(n, 1)"
            />
          </legend>
          <InterfaceFields
            :model-value="x"
            :prefix="`i${x.key}-`"
            :others="interfaces.length > 1"
            :wrong="wrongOf(n)"
            :address="system.address"
          />
        </fieldset>
        <Button
          type="button"
          size="small"
          variant="outlined"
          :label="$t('connections.addAnotherInterface')"
          @click="interfaces.push(fresh('scim'))"
        />
      </section>
    </div>
    <Oops :error="save.error.value" />
    <div class="actions">
      <Button type="submit" :label="$t('connections.saveAndTest')" :loading="save.isPending.value" />
      <Button
        type="button"
        variant="text"
        :label="$t('common.cancel')"
        @click="router.push('/connections')"
      />
    </div>
  </form>
</template>

<style scoped>
.sheet {
  padding: 1rem;
}

.columns {
  display: grid;
  grid-template-columns: minmax(0, 2fr) minmax(0, 3fr);
  gap: 2rem;
  align-items: start;
}

.system {
  position: sticky;
  top: 4rem;
}

h2 {
  font: 400 1.05rem/1.2 var(--serif);
  margin: 0 0 0.6rem;
}

fieldset {
  border: 1px solid var(--line);
  padding: 0.4rem 0.9rem;
  margin: 0 0 0.8rem;
}

legend {
  font: 400 1.05rem/1.2 var(--serif);
}
</style>
