<script setup lang="ts">
import { useMutation, useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, ok, type Schemas } from '../../api/client'
import DetailFields from '../../parts/DetailFields.vue'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import Frame from '../../parts/form/Frame.vue'
import TextField from '../../parts/form/TextField.vue'
import { letGo } from '../../parts/form/typed'
import Oops from '../../parts/Oops.vue'
import Tabs from '../../parts/Tabs.vue'
import { useServices } from '../connections/interface'
import Candidates from './Candidates.vue'

/** Pairs a section or a linked set with a new class, or with one that is there. */
const props = defineProps<{ section: Schemas['Section'] }>()
const emit = defineEmits<{ close: [] }>()
const router = useRouter()

const templates = useQuery({ queryKey: ['templates'], queryFn: () => ok(api.GET('/api/v1/templates')) })
const services = useServices()
const interfaceId = ref('')
// The only one is the one; of several, somebody chooses.
watch(services, (all) => all?.length === 1 && (interfaceId.value ||= all[0]!.id), { immediate: true })
const kind = ref('new')
const template = ref('')
const target = ref('')
const existing = ref('')
watch([kind, interfaceId], () => (existing.value = ''))

const details = ref<Record<string, string>>({})

// The name that the template gives, and what is to be known before pairing.
const outlook = useQuery({
  queryKey: ['outlook', () => props.section.id, interfaceId, template, () => details.value],
  queryFn: () =>
    ok(
      api.POST('/api/v1/batches', {
        body: {
          act: 'pair',
          sections: [props.section.id],
          interfaceId: interfaceId.value,
          template: template.value,
          details: details.value,
          withoutRun: true,
        },
      }),
    ),
  enabled: () => !!interfaceId.value,
  staleTime: Infinity,
})
const item = computed(() => outlook.data.value?.items[0])
watch(item, (now, before) => {
  if (now && (!target.value || target.value === before?.target)) target.value = now.target
})
const remarks = computed(() => (kind.value === 'new' ? (item.value?.remarks ?? []) : []))

const missing = computed(() =>
  kind.value === 'new' ? [...new Set([...(item.value?.missing ?? []), ...Object.keys(details.value)])] : [],
)

const pair = useMutation({
  mutationFn: () =>
    ok(
      api.POST('/api/v1/pairings', {
        body: {
          sectionId: props.section.id,
          interfaceId: interfaceId.value,
          template: template.value,
          target: kind.value === 'new' ? target.value : '',
          details: details.value,
          targetRef: kind.value === 'new' ? '' : existing.value,
        },
      }),
    ),
  onSuccess: (p) => {
    letGo()
    return router.push(`/pairings/${p.id}`)
  },
})
</script>

<template>
  <Frame
    :of="pair"
    :title="$t('sections.pairTitle', { title: section.title })"
    :width="kind === 'new' ? '32rem' : '46rem'"
    @close="emit('close')"
  >
    <p class="faint">
      {{
        $t('sections.learnersNothingHappensAtService', {
          learners: section.learners,
          teachers: section.teachers.join(', ') || $t('sections.noTeacher'),
        })
      }}
    </p>
    <p v-if="services && !services.length">
      <i18n-t keypath="sections.noServiceTakesPeopleYet" scope="global"
        ><template #connectOne
          ><RouterLink to="/connections">{{ $t('sections.connectOne') }}</RouterLink></template
        ></i18n-t
      >
    </p>
    <form v-else @submit.prevent="pair.mutate()">
      <ChoiceField
        id="service"
        v-model="interfaceId"
        name="interfaceId"
        :label="$t('sections.service')"
        :options="(services ?? []).map((c) => ({ value: c.id, label: c.name }))"
      />
      <div class="field">
        <label for="template">{{ $t('sections.template') }}</label>
        <ChoiceField
          id="template"
          v-model="template"
          name="template"
          hidden
          :label="$t('sections.template')"
          :options="(templates.data.value ?? []).map((t, i) => ({ value: i ? t.name : '', label: t.name }))"
        />
      </div>
      <Tabs
        v-model="kind"
        :label="$t('sections.whichClass')"
        :tabs="[
          { name: 'new', title: $t('sections.newClass') },
          { name: 'existing', title: $t('sections.oneThatIsThereAlready') },
        ]"
      />
      <TextField
        v-if="kind === 'new'"
        id="target"
        v-model="target"
        name="target"
        autofocus
        :label="$t('sections.nameOfNewClassThere')"
      />
      <Candidates v-else v-model="existing" :section-id="section.id" :interface-id="interfaceId" />
      <DetailFields v-if="missing.length" v-model="details" :missing="missing" />
      <p v-for="r in remarks" :key="r.code" :class="r.blocks ? 'bad' : 'warn'">
        {{ r.blocks ? '▲' : '◐' }} {{ r.detail }}. <span class="faint">{{ r.remedy }}</span>
      </p>
      <Oops :error="pair.error.value ?? outlook.error.value" />
      <div class="actions">
        <Button
          type="submit"
          :label="$t('sections.pairAndPreview')"
          :loading="pair.isPending.value"
          :disabled="!interfaceId || (kind === 'new' ? item?.blocked : !existing)"
        />
        <Button type="button" variant="text" :label="$t('common.cancel')" @click="emit('close')" />
      </div>
    </form>
  </Frame>
</template>

<style scoped>
.bad {
  color: var(--signal);
}

.bad,
.warn {
  margin: 0.3rem 0;
  font-size: 13px;
}
</style>
