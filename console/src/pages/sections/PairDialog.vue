<script setup lang="ts">
import { useMutation, useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, ok, type Schemas } from '../../api/client'
import Oops from '../../parts/Oops.vue'
import Tabs from '../../parts/Tabs.vue'
import DetailFields from '../../parts/DetailFields.vue'
import Candidates from './Candidates.vue'

/** Pairs a section or a linked set with a new class, or with one that is there. */
const props = defineProps<{ section: Schemas['Section'] }>()
const emit = defineEmits<{ close: [] }>()
const router = useRouter()

const interfaces = useQuery({ queryKey: ['interfaces'], queryFn: () => ok(api.GET('/api/v1/interfaces')) })
const templates = useQuery({ queryKey: ['templates'], queryFn: () => ok(api.GET('/api/v1/templates')) })
const services = computed(() => (interfaces.data.value?.items ?? []).filter((c) => c.kind === 'scim'))
const interfaceId = ref('')
watch(services, (all) => (interfaceId.value ||= all[0]?.id ?? ''), { immediate: true })
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
  onSuccess: (p) => router.push(`/pairings/${p.id}`),
})
</script>

<template>
  <Dialog
    :visible="true"
    modal
    :header="`Pair ${section.title}`"
    :style="{ width: kind === 'new' ? '32rem' : '46rem' }"
    @update:visible="emit('close')"
  >
    <p class="faint">
      {{ section.learners }} learners, {{ section.teachers.join(', ') || 'no teacher' }}. Nothing happens at
      the service until you have seen the preview.
    </p>
    <p v-if="interfaces.data.value && !services.length">
      No service takes people yet. <RouterLink to="/connections">Connect one</RouterLink> of the kind
      “Workspace”.
    </p>
    <form v-else @submit.prevent="pair.mutate()">
      <div class="field">
        <label for="service">Service</label>
        <select id="service" v-model="interfaceId">
          <option v-for="c in services" :key="c.id" :value="c.id">{{ c.name }}</option>
        </select>
      </div>
      <div class="field">
        <label for="template">Template</label>
        <select id="template" v-model="template">
          <option v-for="(t, i) in templates.data.value" :key="t.name" :value="i ? t.name : ''">
            {{ t.name }}
          </option>
        </select>
      </div>
      <Tabs
        v-model="kind"
        label="Which class"
        :tabs="[
          { name: 'new', title: 'A new class' },
          { name: 'existing', title: 'One that is there already' },
        ]"
      />
      <div v-if="kind === 'new'" class="field">
        <label for="target">Name of the new class there</label>
        <InputText id="target" v-model="target" autofocus />
      </div>
      <Candidates v-else v-model="existing" :section-id="section.id" :interface-id="interfaceId" />
      <DetailFields v-if="missing.length" v-model="details" :missing="missing" />
      <p v-for="r in remarks" :key="r.code" :class="r.blocks ? 'bad' : 'warn'">
        {{ r.blocks ? '▲' : '◐' }} {{ r.detail }}. <span class="faint">{{ r.remedy }}</span>
      </p>
      <Oops :error="pair.error.value ?? outlook.error.value" />
      <div class="actions">
        <Button
          type="submit"
          label="Pair and preview"
          :loading="pair.isPending.value"
          :disabled="!interfaceId || (kind === 'new' ? item?.blocked : !existing)"
        />
        <Button type="button" variant="text" label="Cancel" @click="emit('close')" />
      </div>
    </form>
  </Dialog>
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
