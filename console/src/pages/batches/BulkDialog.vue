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
import { $t } from '../../texts'
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
  if (props.act === 'pair') return $t('batches.pairSection', { free: props.free.length }, props.free.length)
  const n = props.paired.length
  return props.act === 'open'
    ? $t('batches.openClasses', { n }, n)
    : $t('batches.applyTemplateToClasses', { n }, n)
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
    <p class="faint">{{ $t('batches.nothingHappensUntilYouHave') }}</p>
    <form @submit.prevent="emit('look', order())">
      <ChoiceField
        v-if="act === 'pair'"
        id="bulk-service"
        v-model="interfaceId"
        name="interfaceId"
        :label="$t('batches.service')"
        :options="(services ?? []).map((c) => ({ value: c.id, label: c.name }))"
      />
      <WhenField
        v-if="act === 'open'"
        id="bulk-at"
        v-model="at"
        of="date-time"
        :label="$t('batches.whenTheyOpen')"
        :help="$t('batches.leaveItEmptyToOpen')"
      />
      <ChoiceField
        v-else
        id="bulk-template"
        v-model="template"
        name="template"
        :label="$t('batches.template')"
        :options="(templates.data.value ?? []).map((t, i) => ({ value: i ? t.name : '', label: t.name }))"
      />
      <TextField
        v-if="act === 'pair'"
        id="bulk-naming"
        v-model="naming"
        :placeholder="chosenTemplate?.target"
        :label="$t('batches.namesOfClasses')"
        ><template #help>{{ $t('batches.sectionCodeCourseCoursecodeTerm') }}</template></TextField
      >
      <TickField v-if="act === 'pair'" v-model="later" :label="$t('batches.leaveFirstRunsForLater')" />
      <Oops :error="error" />
      <div class="actions">
        <Button type="submit" :label="$t('batches.showWhatItMeans')" :loading="busy" />
        <Button type="button" variant="text" :label="$t('common.cancel')" @click="emit('close')" />
      </div>
    </form>
  </Frame>
</template>
