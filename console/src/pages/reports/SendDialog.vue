<script setup lang="ts">
import { useMutation, useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import AreaField from '../../parts/form/AreaField.vue'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import FormDialog from '../../parts/form/FormDialog.vue'
import ScheduleField from '../../parts/ScheduleField.vue'
import { $t } from '../../texts'

/** Lets a report, narrowed as it is shown, be sent by mail by the clock. */
const props = defineProps<{ report: string; title: string; narrowed: Record<string, string> }>()
const emit = defineEmits<{ close: []; made: [] }>()
const queries = useQueryClient()
const typed = ref({
  to: '',
  form: 'pdf' as Schemas['NewReportMail']['form'],
  schedule: { kind: 'daily', at: '07:00', days: ['monday'] } as Schemas['Schedule'],
})
const recipients = computed(() => typed.value.to.split(/[\s,;]+/).filter(Boolean))
/** A report that is sent again and again ends on no day. */
const narrowed = computed(() =>
  Object.fromEntries(Object.entries(props.narrowed).filter(([field]) => field !== 'from' && field !== 'to')),
)
const make = useMutation({
  mutationFn: () =>
    ok(
      api.POST('/api/v1/report-mails', {
        body: {
          report: props.report,
          narrowed: narrowed.value,
          form: typed.value.form,
          schedule: typed.value.schedule,
          recipients: recipients.value,
        },
      }),
    ),
  onSuccess: () => {
    emit('made')
    return queries.invalidateQueries({ queryKey: ['report-mails'] })
  },
})
</script>

<template>
  <FormDialog
    :title="$t('reports.sendTitle', { title })"
    :submit="$t('reports.sendByClock')"
    width="34rem"
    :sending="make.isPending.value"
    :unready="!recipients.length"
    :error="make.error.value"
    :typed="typed"
    @submit="make.mutate()"
    @close="emit('close')"
  >
    <AreaField
      id="send-to"
      v-model="typed.to"
      :label="$t('reports.recipients')"
      :help="$t('reports.recipientsHelp')"
    />
    <ChoiceField
      id="send-form"
      v-model="typed.form"
      :label="$t('reports.sentAs')"
      :options="[
        { value: 'pdf', label: $t('reports.asPDF') },
        { value: 'xlsx', label: $t('reports.asXLSX') },
        { value: 'csv', label: $t('reports.asCSV') },
        { value: 'png', label: $t('reports.asPNG') },
      ]"
    />
    <ScheduleField id="send-when" v-model="typed.schedule" :kinds="['daily']" />
  </FormDialog>
</template>
