<script setup lang="ts">
import Chart from 'primevue/chart'
import { computed } from 'vue'

import type { Schemas } from '../../api/client'
import { day } from '../../parts/when'
import { heightOf, isLines, most } from './height'

/** The chart of a part of a report. The table below it has the same numbers. */
const props = defineProps<{ chart: Schemas['ReportChart']; title: string }>()

/** As in the files. */
const tones = { done: '#2f6136', open: '#c9a227', bad: '#b4451f', rest: '#c9c4b2', second: '#4a6a8a' }
const lines = computed(() => isLines(props.chart))
const labels = computed(() => {
  const all = props.chart.labels ?? []
  return (lines.value ? all : all.slice(0, most)).map((l) =>
    /^\d{4}-\d\d-\d\d$/.test(l) ? day(`${l}T12:00`) : l.length > 42 ? `${l.slice(0, 41)}…` : l,
  )
})
const data = computed(() => ({
  labels: labels.value,
  datasets: (props.chart.series ?? []).map((s) => ({
    label: s.title,
    data: (s.values ?? []).slice(0, labels.value.length),
    backgroundColor: tones[s.tone],
    borderColor: tones[s.tone],
    borderWidth: lines.value ? 2 : 0,
    pointRadius: labels.value.length > 60 ? 0 : 3,
    maxBarThickness: 22,
  })),
}))
const options = computed(() => ({
  indexAxis: lines.value ? 'x' : 'y',
  maintainAspectRatio: false,
  animation: false,
  plugins: {
    legend: {
      display: (props.chart.series?.length ?? 0) > 1,
      align: 'start',
      labels: { boxWidth: 12, color: '#21281e' },
    },
  },
  scales: {
    x: {
      stacked: !lines.value,
      beginAtZero: true,
      ticks: { precision: 0, color: '#5d6356', maxTicksLimit: 8 },
    },
    y: {
      stacked: !lines.value,
      beginAtZero: true,
      ticks: { precision: 0, color: '#21281e', autoSkip: lines.value },
      grid: { display: lines.value },
    },
  },
}))
const height = computed(() => heightOf(props.chart))
/** What it shows, for those who cannot see it. */
const described = computed(() =>
  labels.value
    .map(
      (l, i) =>
        `${l}: ${(props.chart.series ?? []).map((s) => `${s.title} ${s.values?.[i] ?? 0}`).join(', ')}`,
    )
    .join('. '),
)
</script>

<template>
  <Chart
    :type="lines ? 'line' : 'bar'"
    :data="data"
    :options="options"
    :style="{ height: `${height}px` }"
    :canvas-props="{ role: 'img', 'aria-label': `${title}. ${described}` }"
  />
</template>

<style scoped>
/* It shrinks with the window. */
.p-chart {
  position: relative;
  min-width: 0;
}

.p-chart :deep(canvas) {
  max-width: 100%;
}
</style>
