<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Checkbox from 'primevue/checkbox'
import RadioButton from 'primevue/radiobutton'
import { computed, ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import { refresh } from '../../api/live'
import { useVersion } from '../../parts/draft'
import Effects from '../../parts/Effects.vue'
import Frame from '../../parts/form/Frame.vue'
import TextField from '../../parts/form/TextField.vue'
import Oops from '../../parts/Oops.vue'
import SectionPick from '../../parts/SectionPick.vue'

/** Adds sections to a set, takes some out, changes its lead; shows what becomes of everybody. */
const props = defineProps<{ set: Schemas['LinkedSet'] }>()
const emit = defineEmits<{ close: [] }>()
const queries = useQueryClient()
const add = ref<string[]>([])
const kept = ref(props.set.sections.map((s) => s.id))
const lead = ref(props.set.leadId)
const reason = ref('')
const body = computed(() => ({
  add: add.value,
  drop: props.set.sections.map((s) => s.id).filter((id) => !kept.value.includes(id)),
  leadId: lead.value,
  reason: reason.value,
}))
const changed = computed(
  () => !!body.value.add.length || !!body.value.drop.length || lead.value !== props.set.leadId,
)
const path = { path: { id: props.set.id } }
const made = useVersion(props.set.version)
const outlook = useQuery({
  queryKey: ['sets', 'edit', props.set.id, body],
  queryFn: () => ok(api.POST('/api/v1/linked-sets/{id}/outlook', { params: { ...path }, body: body.value })),
  enabled: changed,
  retry: false,
})
const out = computed(() => (changed.value && !outlook.error.value ? outlook.data.value : undefined))
const change = useMutation({
  mutationFn: () =>
    ok(
      api.PATCH('/api/v1/linked-sets/{id}', {
        params: { ...path, header: made.header.value },
        body: body.value,
      }),
    ),
  onSuccess: async () => {
    await refresh(queries, 'section', 'pairing')
    emit('close')
  },
})
</script>

<template>
  <Frame :of="change" :title="$t('sections.change', { name: set.name })" width="46rem" @close="emit('close')">
    <table>
      <thead>
        <tr>
          <th>{{ $t('sections.inSet') }}</th>
          <th>{{ $t('sections.lead') }}</th>
          <th></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="s in set.sections" :key="s.id">
          <td>
            <Checkbox v-model="kept" :value="s.id" :aria-label="$t('sections.isInSet', { title: s.title })" />
          </td>
          <td>
            <RadioButton
              v-model="lead"
              :value="s.id"
              :aria-label="$t('sections.leads', { title: s.title })"
            />
          </td>
          <td>
            {{ s.title }}
            <span class="faint">{{
              $t('sections.learnersCode', {
                code: s.code,
                teachers: s.teachers.join(', ') || $t('sections.noTeacher'),
                learners: s.learners,
              })
            }}</span>
          </td>
        </tr>
      </tbody>
    </table>
    <div class="field">
      <label for="set-add">{{ $t('sections.sectionsToAdd') }}</label>
      <SectionPick v-model="add" input-id="set-add" :label="$t('sections.sectionsToAdd')" />
    </div>
    <TextField
      v-if="out?.refused.some((r) => r.override) || reason"
      id="set-reason"
      v-model="reason"
      name="reason"
      :label="$t('sections.whyTheseAreLinkedAll')"
      :help="$t('sections.keptInAuditTrailWith')"
    />
    <p v-for="r in out?.refused" :key="r.section.id + r.code" class="bad">
      ▲ {{ r.section.title }}: {{ r.detail
      }}<template v-if="r.override">{{ $t('sections.giveReasonToLinkIt') }}</template>
    </p>
    <Effects
      v-if="changed && !out?.refused.length"
      :classes="out?.classes"
      :loading="outlook.isLoading.value"
    />
    <Oops :error="change.error.value ?? (changed ? outlook.error.value : null)" />
    <div class="actions">
      <Button
        :label="$t('sections.changeSet')"
        :disabled="!out || out.refused.length > 0"
        :loading="change.isPending.value"
        @click="change.mutate()"
      />
      <Button variant="text" :label="$t('common.cancel')" @click="emit('close')" />
    </div>
  </Frame>
</template>

<style scoped>
th {
  text-align: start;
  font-size: 12px;
  font-weight: 500;
  color: var(--faint);
  padding-inline-end: 0.8rem;
}

td {
  padding: 0.2rem 0.8rem 0.2rem 0;
}

.bad {
  color: var(--signal);
}
</style>
