<script setup lang="ts">
import type { Schemas } from '../../api/client'
import { day, when } from '../../parts/when'

/** The table of a part of a report. */
const props = defineProps<{ part: Schemas['ReportPart'] }>()
const numbers = new Set(['count', 'share', 'days', 'milliseconds'])

/** A share in percent: less than all is never 100 %, and more than none never 0 %. */
function share(v: number) {
  const p = 100 * v
  if (p > 0 && p < 1) return '< 1 %'
  if (p < 100 && p > 99) return '> 99 %'
  return `${Math.round(p)} %`
}

function said(cell: unknown, unit: string) {
  if (cell === null || cell === undefined) return ''
  if (unit === 'time') return when(String(cell))
  if (unit === 'day') {
    const text = String(cell)
    return text.length === 7
      ? new Intl.DateTimeFormat(undefined, { month: 'long', year: 'numeric' }).format(
          new Date(`${text}-01T12:00`),
        )
      : day(`${text}T12:00`)
  }
  if (typeof cell !== 'number') return String(cell)
  if (unit === 'share') return share(cell)
  if (unit === 'days') return cell < 1 ? `${Math.round(cell * 24)} h` : `${cell.toFixed(1)} d`
  if (unit === 'milliseconds') return `${Math.round(cell)} ms`
  return cell.toLocaleString()
}
const cellsOf = (row: unknown[]) =>
  row.map((cell, i) => {
    const unit = props.part.columns[i]!.unit
    return { text: said(cell, unit), number: numbers.has(unit) }
  })
</script>

<template>
  <p v-if="!part.total" class="faint">{{ part.empty }}</p>
  <div
    v-else
    class="sheet wide"
    tabindex="0"
    role="region"
    :aria-label="$t('reports.tableOf', { title: part.title })"
  >
    <table>
      <thead>
        <tr>
          <th v-for="c in part.columns" :key="c.title" scope="col" :class="{ number: numbers.has(c.unit) }">
            {{ c.title }}
          </th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(row, i) in part.rows ?? []" :key="i">
          <td v-for="(c, j) in cellsOf(row ?? [])" :key="j" :class="{ number: c.number }">{{ c.text }}</td>
        </tr>
      </tbody>
    </table>
    <p v-if="part.total > (part.rows?.length ?? 0)" class="faint more">
      {{ $t('reports.more', { n: (part.total - (part.rows?.length ?? 0)).toLocaleString() }) }}
    </p>
  </div>
</template>

<style scoped>
.wide {
  overflow-x: auto;
}

table {
  width: 100%;
  border-collapse: collapse;
}

th,
td {
  padding: 0.35rem 0.7rem;
  text-align: start;
  border-bottom: 1px solid var(--hair);
  vertical-align: top;
}

th {
  font-size: 12px;
  color: var(--faint);
}

.number {
  text-align: end;
  font-variant-numeric: tabular-nums;
}

.more {
  padding: 0.4rem 0.7rem;
  margin: 0;
}
</style>
