<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, defineAsyncComponent, nextTick, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, ok } from '../../api/client'
import { useAddress } from '../../parts/address'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import Field from '../../parts/form/Field.vue'
import TextField from '../../parts/form/TextField.vue'
import OneSection from '../../parts/OneSection.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import { when } from '../../parts/when'
import { $t } from '../../texts'
import { heightOf } from './height'
import Part from './Part.vue'
import Recount from './Recount.vue'

const ReportChart = defineAsyncComponent(() => import('./ReportChart.vue'))
const SendDialog = defineAsyncComponent(() => import('./SendDialog.vue'))

/** A report: what there is to see, each chart with its table, and all of it as files. */
const props = defineProps<{ name?: string }>()
const router = useRouter()
const sending = ref(false)
async function sent() {
  sending.value = false
  await nextTick() // the dialog is gone, and nothing typed in it is lost
  await router.push('/report-mails')
}
const kinds = useQuery({
  queryKey: ['reports'],
  queryFn: () => ok(api.GET('/api/v1/reports')),
  staleTime: Infinity,
})
const kind = computed(() => kinds.data.value?.find((k) => k.name === (props.name || 'completion')))

const address = useAddress()
const narrowed = {
  term: address.kept('term'),
  course: address.kept('course'),
  section: address.kept('section'),
  teacher: address.kept('teacher'),
  organisation: address.kept('organisation'),
  by: address.kept('by'),
  days: address.kept('days', '', true),
  mark: address.kept('mark', '', true),
  from: address.kept('from', '', true),
  to: address.kept('to', '', true),
}
type Narrowed = keyof typeof narrowed
const takes = (field: string) => kind.value?.takes.includes(field) ?? false
/** What is asked for: of what is in the address, that which this report takes. */
const asked = computed(() =>
  Object.fromEntries(
    (Object.keys(narrowed) as Narrowed[])
      .filter((f) => takes(f) && narrowed[f].value.trim())
      .map((f) => [f, narrowed[f].value.trim()]),
  ),
)
/** What is no whole number is asked for as one that is refused, so that nobody takes 14 days for what was typed. */
const days = computed(() => {
  const text = asked.value.days
  return text === undefined ? undefined : /^\d+$/.test(text) ? Number(text) : -1
})
const ready = computed(() => !!kind.value && (kind.value.name !== 'holdings' || !!asked.value.section))
const report = useQuery({
  queryKey: ['report', () => kind.value?.name, asked],
  queryFn: () =>
    ok(
      api.GET('/api/v1/reports/{name}', {
        params: {
          path: { name: kind.value!.name },
          query: { ...asked.value, days: days.value },
        },
      }),
    ),
  enabled: ready,
})
const r = computed(() => report.data.value)
const file = (form: string, part = 1) =>
  `/api/v1/reports/${kind.value?.name}/file.${form}?${new URLSearchParams({ ...asked.value, part: String(part) })}`

const sections = useQuery({
  queryKey: ['sections', 'choices'],
  queryFn: () => ok(api.GET('/api/v1/sections', { params: { query: { limit: 1 } } })),
})
const every = (values: string[] | null | undefined, any: string) => [
  { value: '', label: any },
  ...(values ?? []).map((v) => ({ value: v, label: v })),
]
const choices = computed(() => {
  const c = sections.data.value?.choices
  return [
    { name: 'term' as const, label: $t('reports.term'), options: every(c?.terms, $t('sections.everyTerm')) },
    {
      name: 'course' as const,
      label: $t('common.course'),
      options: every(c?.courses, $t('sections.everyCourse')),
    },
    {
      name: 'teacher' as const,
      label: $t('reports.teacher'),
      options: every(c?.teachers, $t('sections.everyTeacher')),
    },
    {
      name: 'organisation' as const,
      label: $t('reports.organisation'),
      options: every(c?.organisations, $t('sections.everyOrganisation')),
    },
    {
      name: 'by' as const,
      label: $t('reports.compare'),
      options: [
        { value: '', label: $t('reports.compareUsual') },
        { value: 'course', label: $t('reports.byCourse') },
        { value: 'section', label: $t('reports.bySection') },
        { value: 'term', label: $t('reports.byTerm') },
        { value: 'organisation', label: $t('reports.byOrganisation') },
        { value: 'teacher', label: $t('reports.byTeacher') },
      ],
    },
  ].filter((x) => takes(x.name))
})
const typed = computed(() =>
  (
    [
      { name: 'days', label: $t('reports.days'), placeholder: '14' },
      { name: 'mark', label: $t('reports.mark'), placeholder: '50' },
      { name: 'from', label: $t('reports.from'), placeholder: '2026-09-01' },
      { name: 'to', label: $t('reports.to'), placeholder: '2027-07-31' },
    ] as const
  ).filter((x) => takes(x.name)),
)
const sources = computed(() =>
  r.value?.sources.map((s) =>
    s.readAt
      ? $t('reports.read', { name: s.name, at: when(s.readAt) })
      : $t('reports.neverRead', { name: s.name }),
  ),
)
</script>

<template>
  <PageHead :title="kind?.title ?? $t('shell.reports')" :about="kind?.about">
    <template v-if="r">
      <Button variant="outlined" size="small" :label="$t('reports.send')" @click="sending = true" />
      <a v-for="form in ['pdf', 'xlsx']" :key="form" class="file" :href="file(form)">{{
        form.toUpperCase()
      }}</a>
    </template>
  </PageHead>
  <Oops v-if="kinds.error.value" :error="kinds.error.value" :again="kinds.refetch" />
  <p v-else-if="kinds.data.value && !kind" role="alert">
    {{ $t('reports.noSuchReport', { name: name ?? '' }) }}
  </p>
  <Recount v-if="kind?.name === 'completion'" />
  <div class="narrow">
    <ChoiceField
      id="report-kind"
      :model-value="kind?.name"
      :label="$t('reports.report')"
      :options="(kinds.data.value ?? []).map((k) => ({ value: k.name, label: k.title }))"
      @update:model-value="(to) => to && router.push({ path: `/reports/${to}`, query: $route.query })"
    />
    <ChoiceField
      v-for="c in choices"
      :id="`report-${c.name}`"
      :key="c.name"
      v-model="narrowed[c.name].value"
      :label="c.label"
      :options="c.options"
    />
    <Field v-if="takes('section')" id="report-section" :label="$t('common.section')">
      <OneSection v-model="narrowed.section.value" input-id="report-section" :label="$t('common.section')" />
    </Field>
    <TextField
      v-for="t in typed"
      :id="`report-${t.name}`"
      :key="t.name"
      v-model="narrowed[t.name].value"
      class="short"
      :label="t.label"
      :placeholder="t.placeholder"
    />
  </div>
  <p v-if="kind && !ready" class="faint">{{ $t('reports.chooseSection') }}</p>
  <Oops v-else-if="report.error.value" :error="report.error.value" :again="report.refetch" />
  <p v-else-if="report.isLoading.value" class="faint" role="status">{{ $t('reports.making') }}</p>
  <template v-else-if="r">
    <p class="said">{{ r.summary.join(' ') }}</p>
    <p class="faint">
      {{ [...r.scope, ...(sources ?? [])].join(' · ') }}
    </p>
    <section v-for="(p, i) in r.parts" :key="p.title" :aria-label="p.title">
      <div class="bar">
        <h2>{{ p.title }}</h2>
        <span class="files">
          <a
            v-for="form in p.chart ? ['csv', 'svg', 'png'] : ['csv']"
            :key="form"
            class="file"
            :href="file(form, i + 1)"
            :aria-label="$t('reports.fileOf', { form: form.toUpperCase(), title: p.title })"
            >{{ form.toUpperCase() }}</a
          >
        </span>
      </div>
      <div v-if="p.chart" class="sheet drawn" :style="{ height: `${heightOf(p.chart) + 22}px` }">
        <ReportChart :chart="p.chart" :title="p.title" />
      </div>
      <Part :part="p" />
    </section>
    <p v-for="x in r.remarks" :key="x" class="faint remark">{{ x }}</p>
  </template>
  <SendDialog
    v-if="sending && kind"
    :report="kind.name"
    :title="kind.title"
    :narrowed="asked"
    @close="sending = false"
    @made="sent"
  />
</template>

<style scoped>
.narrow {
  display: flex;
  flex-wrap: wrap;
  gap: 0.6rem 0.9rem;
  margin-bottom: 1rem;
  align-items: start;
}

.narrow :deep(.field) {
  margin: 0;
  max-width: 15rem;
}

.narrow :deep(.p-autocomplete-input-multiple) {
  font-size: inherit;
}

.short {
  width: 7.5rem;
}

.said {
  font: 400 1.15rem/1.4 var(--serif);
  margin: 0 0 0.2rem;
}

.bar {
  display: flex;
  justify-content: space-between;
  align-items: baseline;
  gap: 1rem;
}

.file {
  margin-inline-start: 0.8rem;
}

.drawn {
  padding: 0.6rem 0.8rem;
  margin-bottom: 0.6rem;
  overflow: hidden;
}

.remark {
  margin: 0.4rem 0 0;
}
</style>
