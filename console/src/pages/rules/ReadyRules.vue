<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, ok, Problem, type Schemas } from '../../api/client'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import Frame from '../../parts/form/Frame.vue'
import TextField from '../../parts/form/TextField.vue'
import { letGo } from '../../parts/form/typed'
import Oops from '../../parts/Oops.vue'
import { $t } from '../../texts'

/** Offers rules by purpose, and makes one out of what it needs. */
const emit = defineEmits<{ close: [] }>()
const queries = useQueryClient()
const router = useRouter()
const list = useQuery({
  queryKey: ['rules', 'ready'],
  queryFn: () => ok(api.GET('/api/v1/ready-rules')),
})
const chosen = ref<Schemas['ReadyRule'] | undefined>()
const name = ref('')
const needs = ref<Record<string, string>>({})
watch(chosen, (r) => {
  name.value = r?.title ?? ''
  needs.value = {}
  for (const n of r?.needs ?? []) needs.value[n.name] = n.choices.length === 1 ? n.choices[0]!.value : ''
})
const make = useMutation({
  mutationFn: () =>
    ok(
      api.POST('/api/v1/ready-rules/{key}', {
        params: { path: { key: chosen.value!.key } },
        body: { name: name.value, needs: needs.value },
      }),
    ),
  onSuccess: async (r) => {
    await queries.invalidateQueries({ queryKey: ['rules'] })
    emit('close')
    letGo()
    await router.push(`/rules/${r.id}`)
  },
})
const lacking = computed(() =>
  chosen.value?.needs.filter((n) => n.what !== 'address' && !n.choices.length).map((n) => nothing[n.what]),
)
const nothing: Record<string, { text: string; to: string; link: string }> = {
  interface: {
    text: $t('rules.nothingOfKindIsConnected'),
    to: '/connections/new',
    link: $t('common.connectSystem'),
  },
  badge: { text: $t('rules.thereIsNoBadge'), to: '/badges', link: $t('rules.makeOne') },
  module: { text: $t('rules.noCourseHasOutline'), to: '/outlines', link: $t('rules.setOne') },
}
const wrong = computed(() => (make.error.value instanceof Problem ? make.error.value.fields : {}))
</script>

<template>
  <Frame
    :of="make"
    :title="chosen ? chosen.title : $t('rules.readyRules')"
    width="36rem"
    @close="emit('close')"
  >
    <Oops :error="list.error.value" :again="list.refetch" />
    <ul v-if="!chosen" class="ready">
      <li v-for="r in list.data.value" :key="r.key">
        <div>
          <b>{{ r.title }}</b>
          <p class="faint">{{ r.about }}</p>
        </div>
        <Button
          size="small"
          variant="outlined"
          :label="$t('rules.choose')"
          :aria-label="$t('common.choose', { title: r.title })"
          @click="chosen = r"
        />
      </li>
    </ul>
    <form v-else @submit.prevent="make.mutate()">
      <p class="faint">{{ $t('rules.itIsMadeSwitchedOff', { about: chosen.about }) }}</p>
      <p v-for="x in lacking" :key="x?.to" class="urgent">
        ▲ {{ x?.text }} <RouterLink v-if="x" :to="x.to">{{ x.link }}</RouterLink>
      </p>
      <TextField
        id="ready-name"
        v-model="name"
        name="name"
        :label="$t('common.nameOfRule')"
        maxlength="200"
      />
      <template v-for="n in chosen.needs" :key="n.name">
        <TextField
          v-if="n.what === 'address'"
          :id="`ready-${n.name}`"
          v-model="needs[n.name]"
          :label="n.about"
          :problem="wrong[`needs.${n.name}`]"
          type="email"
        />
        <ChoiceField
          v-else
          :id="`ready-${n.name}`"
          v-model="needs[n.name]"
          :label="n.about"
          :problem="wrong[`needs.${n.name}`]"
          :options="(n.choices ?? []).map((c) => ({ value: c.value, label: c.title }))"
        />
      </template>
      <Oops :error="make.error.value" />
      <div class="actions">
        <Button
          type="submit"
          :label="$t('rules.makeRule')"
          :disabled="!!lacking?.length"
          :loading="make.isPending.value"
        />
        <Button type="button" variant="text" :label="$t('rules.back')" @click="chosen = undefined" />
      </div>
    </form>
  </Frame>
</template>

<style scoped>
.ready {
  list-style: none;
  padding: 0;
  margin: 0;
}

.ready li {
  display: flex;
  justify-content: space-between;
  align-items: center;
  gap: 1rem;
  padding: 0.5rem 0;
  border-top: 1px solid var(--line);
}

.ready li > button {
  flex: none;
}

.ready p {
  margin: 0.1rem 0 0;
}

.field {
  display: grid;
  gap: 0.25rem;
  margin: 0.7rem 0;
}

.urgent {
  color: var(--signal);
}
</style>
