<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'

import { api, ok } from '../../api/client'
import Oops from '../../parts/Oops.vue'
import { when } from '../../parts/when'

/** Where a person stands in a section's course, activity by activity. */
const props = defineProps<{ person: string; section: string; title: string }>()
const progress = useQuery({
  queryKey: ['events', 'progress', () => props.person, () => props.section],
  queryFn: () =>
    ok(
      api.GET('/api/v1/people/{id}/progress/{section}', {
        params: { path: { id: props.person, section: props.section } },
      }),
    ),
})
const signs: Record<string, string> = { done: '●', passed: '●', failed: '✕', begun: '◐', 'not begun': '○' }
</script>

<template>
  <section class="sheet">
    <h2>{{ $t('people.activityByActivity', { title }) }}</h2>
    <Oops :error="progress.error.value" />
    <template v-if="progress.data.value">
      <p class="faint">
        {{ progress.data.value.percent }} %
        <template v-if="progress.data.value.firstAt">{{
          $t('people.firstActivityLatest', {
            firstAt: when(progress.data.value.firstAt),
            lastAt: when(progress.data.value.lastAt),
          })
        }}</template>
        <template v-if="progress.data.value.elsewhere">{{
          $t('people.moreReportedThatStandIn', { elsewhere: progress.data.value.elsewhere })
        }}</template>
      </p>
      <p v-if="!progress.data.value.modules.length" class="faint">{{ $t('people.courseHasNoOutlineYet') }}</p>
      <table v-else>
        <tbody v-for="m in progress.data.value.modules" :key="m.id">
          <tr>
            <th colspan="4" scope="rowgroup">
              {{ m.done ? '●' : '○' }} {{ m.title || m.id }}
              <span v-if="m.optional" class="faint">{{ $t('people.optional') }}</span>
            </th>
          </tr>
          <tr v-for="a in m.activities" :key="a.id">
            <td :style="{ paddingLeft: `${1.5 + a.depth * 1.2}rem` }">
              {{ a.title || a.id }} <span v-if="!a.counts" class="faint">{{ $t('people.optional') }}</span>
            </td>
            <td :class="{ failed: a.word === 'failed' }">{{ signs[a.word] }} {{ a.word }}</td>
            <td class="faint">{{ a.best === undefined ? '' : `${Math.round(a.best * 100)} %` }}</td>
            <td class="faint">{{ a.lastAt ? when(a.lastAt) : '' }}</td>
          </tr>
        </tbody>
      </table>
    </template>
  </section>
</template>

<style scoped>
section {
  padding: 0.2rem 1rem 0.8rem;
  margin-top: 0.8rem;
}

h2 {
  margin-top: 0.8rem;
}

table {
  border-collapse: collapse;
  font-size: 0.9rem;
}

th {
  text-align: start;
  padding: 0.5rem 0 0.2rem;
}

td {
  padding: 0.15rem 1.6rem 0.15rem 0;
}

.failed {
  color: var(--signal);
}
</style>
