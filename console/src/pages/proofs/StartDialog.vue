<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'

import { api, ok } from '../../api/client'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import Field from '../../parts/form/Field.vue'
import FormDialog from '../../parts/form/FormDialog.vue'
import TextField from '../../parts/form/TextField.vue'
import OneSection from '../../parts/OneSection.vue'
import { $t } from '../../texts'

/** Lets a test learner go the whole way through a section. */
const emit = defineEmits<{ close: []; made: [id: string] }>()
const queries = useQueryClient()
const typed = ref({ section: '', person: '', email: '', module: '' })
const there = useQuery({
  queryKey: ['proofs', 'of', () => typed.value.section],
  queryFn: () =>
    ok(api.GET('/api/v1/sections/{id}/test-learners', { params: { path: { id: typed.value.section } } })),
  enabled: () => !!typed.value.section,
})
const learners = computed(() => [
  { value: '', label: $t('proofs.madeForIt') },
  ...(there.data.value?.learners ?? []).map((l) => ({ value: l.id, label: l.name, apart: l.identifier })),
])
const modules = computed(() => [
  { value: '', label: $t('proofs.firstModule') },
  ...(there.data.value?.modules ?? []).map((m) => ({ value: m.id, label: m.title || m.id })),
])
const start = useMutation({
  mutationFn: () =>
    ok(
      api.POST('/api/v1/proofs', {
        body: {
          section: typed.value.section,
          module: typed.value.module || undefined,
          person: typed.value.person || undefined,
          email: typed.value.person ? undefined : typed.value.email,
        },
      }),
    ),
  onSuccess: (p) => {
    emit('made', p.id)
    return queries.invalidateQueries({ queryKey: ['proofs'] })
  },
})
</script>

<template>
  <FormDialog
    :title="$t('proofs.startTitle')"
    :submit="$t('proofs.start')"
    width="34rem"
    :sending="start.isPending.value"
    :unready="!typed.section || (!typed.person && !typed.email)"
    :error="start.error.value"
    :typed="typed"
    @submit="start.mutate()"
    @close="emit('close')"
  >
    <Field id="proof-section" :label="$t('common.section')">
      <OneSection v-model="typed.section" input-id="proof-section" :label="$t('common.section')" />
    </Field>
    <p v-if="there.data.value?.under">
      <RouterLink :to="`/proofs/${there.data.value.under}`">{{ $t('proofs.under') }}</RouterLink>
    </p>
    <ChoiceField
      id="proof-person"
      v-model="typed.person"
      :label="$t('proofs.learner')"
      :options="learners"
      :help="$t('proofs.learnerHelp')"
    />
    <TextField
      v-if="!typed.person"
      id="proof-email"
      v-model="typed.email"
      :label="$t('proofs.email')"
      :help="$t('proofs.emailHelp')"
    />
    <ChoiceField id="proof-module" v-model="typed.module" :label="$t('proofs.module')" :options="modules" />
  </FormDialog>
</template>
