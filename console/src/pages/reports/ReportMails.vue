<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'

import { api, ok, type Schemas } from '../../api/client'
import { ask } from '../../parts/form/ask'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import { when } from '../../parts/when'
import { $t } from '../../texts'

/** The reports that are sent by mail by the clock, and what became of the latest mails. */
const queries = useQueryClient()
const list = useQuery({
  queryKey: ['report-mails'],
  queryFn: () => ok(api.GET('/api/v1/report-mails')),
  refetchInterval: 10_000,
})
const again = () => queries.invalidateQueries({ queryKey: ['report-mails'] })
type Mail = Schemas['ReportMail']
const pause = useMutation({
  mutationFn: (m: Mail) =>
    ok(
      api.PUT('/api/v1/report-mails/{id}', {
        params: { path: { id: m.id }, header: { 'If-Match': `"${m.version}"` } },
        body: {
          report: m.report,
          narrowed: m.narrowed,
          form: m.form,
          schedule: m.schedule,
          recipients: m.recipients,
          paused: !m.paused,
        },
      }),
    ),
  onSettled: again,
})
const send = useMutation({
  mutationFn: (id: string) => ok(api.POST('/api/v1/report-mails/{id}/send', { params: { path: { id } } })),
  onSettled: again,
})
const drop = useMutation({
  mutationFn: (id: string) => ok(api.DELETE('/api/v1/report-mails/{id}', { params: { path: { id } } })),
  onSettled: again,
})
async function remove(m: Mail) {
  const yes = await ask({
    title: $t('reports.removeTitle', { title: m.title }),
    text: $t('reports.removeText'),
    yes: $t('common.remove'),
  })
  if (yes) drop.mutate(m.id)
}
const lookAt = (m: Mail) => ({ path: `/reports/${m.report}`, query: m.narrowed })
const troubles = (m: Mail) => (m.last ?? []).filter((x) => !x.sentAt)
const days = (m: Mail) =>
  $t('reports.dayAt', {
    day:
      m.schedule.days?.map((d) => d.charAt(0).toUpperCase() + d.slice(1)).join(', ') ??
      $t('reports.everyDay'),
    at: m.schedule.at ?? '',
  })
</script>

<template>
  <PageHead :title="$t('shell.reportsMails')" :about="$t('reports.aboutMails')" />
  <Listing
    :rows="list.data.value?.items"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    :empty="$t('reports.noMails')"
    :next="{ to: '/reports', text: $t('reports.toReports') }"
  >
    <Column :header="$t('reports.report')">
      <template #body="{ data }"
        ><RouterLink :to="lookAt(data)">{{ data.title }}</RouterLink>
        <small class="faint below">{{ Object.values(data.narrowed ?? {}).join(', ') }}</small></template
      >
    </Column>
    <Column :header="$t('reports.whenSent')">
      <template #body="{ data }"
        >{{ days(data) }} <small class="faint below">{{ data.form.toUpperCase() }}</small></template
      >
    </Column>
    <Column :header="$t('reports.recipients')">
      <template #body="{ data }">{{ data.recipients.join(', ') }}</template>
    </Column>
    <Column :header="$t('reports.next')">
      <template #body="{ data }">{{ data.paused ? $t('reports.paused') : when(data.nextAt) }}</template>
    </Column>
    <Column :header="$t('reports.lastTime')">
      <template #body="{ data }">
        <template v-if="troubles(data).length">
          <b v-for="x in troubles(data)" :key="x.to" class="below">{{ x.to }}: {{ x.trouble }}</b>
        </template>
        <template v-else-if="data.last?.length">{{
          $t('reports.sentAt', { at: when(data.last[0].sentAt) })
        }}</template>
        <span v-else class="faint">{{ $t('reports.notSentYet') }}</span>
      </template>
    </Column>
    <Column header="">
      <template #body="{ data }">
        <Button
          size="small"
          variant="text"
          :label="$t('reports.sendNow')"
          :aria-label="$t('reports.sendNowOf', { title: data.title })"
          :loading="send.isPending.value && send.variables.value === data.id"
          @click="send.mutate(data.id)"
        />
        <Button
          size="small"
          variant="text"
          :label="data.paused ? $t('reports.resume') : $t('reports.pause')"
          :aria-label="
            data.paused
              ? $t('reports.resumeOf', { title: data.title })
              : $t('reports.pauseOf', { title: data.title })
          "
          @click="pause.mutate(data)"
        />
        <Button
          size="small"
          variant="text"
          :label="$t('common.remove')"
          :aria-label="$t('reports.removeOf', { title: data.title })"
          @click="remove(data)"
        />
      </template>
    </Column>
  </Listing>
  <Oops :error="send.error.value ?? pause.error.value ?? drop.error.value" />
</template>
