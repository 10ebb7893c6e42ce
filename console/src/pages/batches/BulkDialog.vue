<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import Frame from '../../parts/form/Frame.vue'
import TextField from '../../parts/form/TextField.vue'
import TickField from '../../parts/form/TickField.vue'
import WhenField from '../../parts/form/WhenField.vue'
import Oops from '../../parts/Oops.vue'
import { useServices } from '../connections/interface'

/** Asks how chosen sections are to be paired or opened, or which template they get. */
const props = defineProps<{
  act: 'pair' | 'template' | 'open'
  /** Where, when that is chosen already. */
  service?: string
  free: Schemas['Section'][]
  paired: Schemas['Section'][]
  busy: boolean
  error: Error | null
}>()
const emit = defineEmits<{ look: [order: Schemas['Order']]; close: [] }>()

const template = ref('')
const naming = ref('')
const interfaceId = ref(props.service ?? '')
const later = ref(false)
const at = ref('')

const templates = useQuery({ queryKey: ['templates'], queryFn: () => ok(api.GET('/api/v1/templates')) })
const services = useServices()
const chosenTemplate = computed(
  () => templates.data.value?.find((t) => t.name === template.value) ?? templates.data.value?.[0],
)

const header = computed(() => {
  if (props.act === 'pair')
    return `Pair ${props.free.length} ${props.free.length === 1 ? 'section' : 'sections'}`
  const what = props.act === 'open' ? 'Open' : 'Apply a template to'
  return `${what} ${props.paired.length} ${props.paired.length === 1 ? 'class' : 'classes'}`
})

function order(): Schemas['Order'] {
  if (props.act === 'pair') {
    return {
      act: 'pair',
      sections: props.free.map((x) => x.id),
      interfaceId: interfaceId.value,
      template: template.value,
      naming: naming.value,
      withoutRun: later.value,
    }
  }
  return {
    act: props.act,
    pairings: props.paired.map((x) => x.pairingId!),
    template: template.value,
    at: props.act === 'open' && at.value ? new Date(at.value).toISOString() : undefined,
  }
}
</script>

<template>
  <Frame :title="header" width="32rem" @close="emit('close')">
    <p class="faint">Nothing happens until you have seen what it means for each.</p>
    <form @submit.prevent="emit('look', order())">
      <ChoiceField
        v-if="act === 'pair'"
        id="bulk-service"
        v-model="interfaceId"
        label="Service"
        :options="(services ?? []).map((c) => ({ value: c.id, label: c.name }))"
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
      <Oops :error="error" />
      <div class="actions">
        <Button type="submit" label="Show what it means" :loading="busy" />
        <Button type="button" variant="text" label="Cancel" @click="emit('close')" />
      </div>
    </form>
  </Frame>
</template>
