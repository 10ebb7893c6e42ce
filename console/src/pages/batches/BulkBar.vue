<script setup lang="ts">
import { useMutation, useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, ok, type Schemas } from '../../api/client'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import Frame from '../../parts/form/Frame.vue'
import { letGo } from '../../parts/form/typed'
import TextField from '../../parts/form/TextField.vue'
import TickField from '../../parts/form/TickField.vue'
import WhenField from '../../parts/form/WhenField.vue'
import Oops from '../../parts/Oops.vue'
import { acts } from './acts'

/** What can be done with the sections that are chosen; it is shown before it is done. */
const props = defineProps<{ chosen: Schemas['Section'][] }>()
const emit = defineEmits<{ clear: []; link: [] }>()
const router = useRouter()

const paired = computed(() => props.chosen.filter((x) => x.pairingId))
const free = computed(() => props.chosen.filter((x) => !x.pairingId))
const act = ref<Schemas['Order']['act']>()
const template = ref('')
const naming = ref('')
const interfaceId = ref('')
const later = ref(false)
const at = ref('')

const interfaces = useQuery({ queryKey: ['interfaces'], queryFn: () => ok(api.GET('/api/v1/interfaces')) })
const templates = useQuery({ queryKey: ['templates'], queryFn: () => ok(api.GET('/api/v1/templates')) })
const services = computed(() => (interfaces.data.value?.items ?? []).filter((c) => c.kind === 'scim'))
watch(services, (all) => (interfaceId.value ||= all[0]?.id ?? ''), { immediate: true })
const chosenTemplate = computed(
  () => templates.data.value?.find((t) => t.name === template.value) ?? templates.data.value?.[0],
)

const look = useMutation({
  mutationFn: (a: Schemas['Order']['act']) =>
    ok(
      api.POST('/api/v1/batches', {
        body:
          a === 'pair'
            ? {
                act: a,
                sections: free.value.map((x) => x.id),
                interfaceId: interfaceId.value,
                template: template.value,
                naming: naming.value,
                withoutRun: later.value,
              }
            : {
                act: a,
                pairings: paired.value.map((x) => x.pairingId!),
                template: template.value,
                at: a === 'open' && at.value ? new Date(at.value).toISOString() : undefined,
              },
      }),
    ),
  onSuccess: (b) => {
    letGo()
    return router.push(`/batches/${b.id}`)
  },
})

const header = computed(() => {
  if (act.value === 'pair') return `Pair ${free.value.length} sections`
  const what = act.value === 'open' ? 'Open' : 'Apply a template to'
  return `${what} ${paired.value.length} ${paired.value.length === 1 ? 'class' : 'classes'}`
})

function choose(a: Schemas['Order']['act']) {
  look.reset()
  if (a === 'pair' || a === 'template' || a === 'open') act.value = a
  else look.mutate(a)
}
</script>

<template>
  <div v-if="chosen.length" class="bulk" role="toolbar" aria-label="With the chosen sections">
    <b>{{ chosen.length }} chosen</b>
    <Button v-if="free.length" unstyled type="button" @click="choose('pair')">Pair {{ free.length }}…</Button>
    <Button v-if="chosen.length > 1" unstyled type="button" @click="emit('link')">Link…</Button>
    <template v-if="paired.length">
      <Button v-for="(a, name) in acts" :key="name" unstyled type="button" @click="choose(name)">
        {{ a.short }}
      </Button>
      <Button unstyled type="button" @click="choose('template')">Apply a template…</Button>
    </template>
    <span v-if="look.isPending.value" class="faint">looking…</span>
    <Button unstyled type="button" class="clear" @click="emit('clear')">clear</Button>
    <Oops v-if="!act" :error="look.error.value" />
  </div>
  <Frame v-if="act" :title="header" width="32rem" @close="act = undefined">
    <p class="faint">Nothing happens until you have seen what it means for each.</p>
    <form @submit.prevent="look.mutate(act)">
      <ChoiceField
        v-if="act === 'pair'"
        id="bulk-service"
        v-model="interfaceId"
        label="Service"
        :options="services.map((c) => ({ value: c.id, label: c.name }))"
      />
      <WhenField
        v-if="act === 'open'"
        id="bulk-at"
        v-model="at"
        of="date-time"
        label="When they open"
        help="Leave it empty to open them at once."
      />
      <ChoiceField
        v-else
        id="bulk-template"
        v-model="template"
        label="Template"
        :options="(templates.data.value ?? []).map((t, i) => ({ value: i ? t.name : '', label: t.name }))"
      />
      <TextField
        v-if="act === 'pair'"
        id="bulk-naming"
        v-model="naming"
        :placeholder="chosenTemplate?.target"
        label="Names of the classes"
        ><template #help
          >{section} {code} {course} {courseCode} {term} {teacher} {organisation}</template
        ></TextField
      >
      <TickField v-if="act === 'pair'" v-model="later" label="leave the first runs for later" />
      <Oops :error="look.error.value" />
      <div class="actions">
        <Button type="submit" label="Show what it means" :loading="look.isPending.value" />
        <Button type="button" variant="text" label="Cancel" @click="act = undefined" />
      </div>
    </form>
  </Frame>
</template>

<style scoped>
.bulk {
  display: flex;
  flex-wrap: wrap;
  gap: 0.3rem 1rem;
  align-items: center;
  background: var(--ink);
  color: var(--sheet);
  padding: 0.45rem 0.9rem;
  margin-bottom: 0.5rem;
  position: sticky;
  top: 44px;
  z-index: 4;
}

.bulk button {
  font: inherit;
  font-size: 13px;
  color: inherit;
  border: 0;
  border-bottom: 1px solid currentcolor;
  background: none;
  padding: 0;
  cursor: pointer;
}

.bulk .faint {
  color: inherit;
}

.bulk .clear {
  margin-left: auto;
  border: 0;
}
</style>
