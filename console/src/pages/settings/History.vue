<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import InputNumber from 'primevue/inputnumber'
import { computed, ref, watch } from 'vue'

import { api, ifMatch, ok, tagOf } from '../../api/client'
import Oops from '../../parts/Oops.vue'
import { $t } from '../../texts'

/** For how long events, deliveries and their attempts are kept, month by month. */
const queries = useQueryClient()
const history = useQuery({
  queryKey: ['history'],
  queryFn: () => ok(api.GET('/api/v1/history')),
  structuralSharing: false,
})
const months = ref<number | null>(null)
const from = ref('') // the state from which it is edited
const changed = computed(() => (months.value ?? 0) !== before.value)
const before = ref(0)
watch(
  history.data,
  (now) => {
    if (!now || changed.value) return
    before.value = now.months
    months.value = now.months || null
    from.value = tagOf(now)
  },
  { immediate: true },
)

/** The months that go at once when it is kept for as long as chosen. */
const gone = computed(() => {
  if (!months.value) return []
  const now = new Date()
  const first = new Date(Date.UTC(now.getUTCFullYear(), now.getUTCMonth() - months.value, 1)).toISOString()
  return (history.data.value?.kept ?? []).filter((m) => m.month < first.slice(0, 7))
})
const save = useMutation({
  mutationFn: () =>
    ok(
      api.PUT('/api/v1/history', {
        params: { header: ifMatch(from.value) },
        body: { months: months.value ?? 0, gone: gone.value.length },
      }),
    ),
  onSuccess: () => {
    before.value = months.value ?? 0
    return queries.invalidateQueries({ queryKey: ['history'] })
  },
})
const size = (bytes: number) => $t('settings.mb', { bytes: (bytes / 1e6).toFixed(1) })
const kept = computed(() => [...(history.data.value?.kept ?? [])].reverse())
</script>

<template>
  <h2>{{ $t('settings.history') }}</h2>
  <p class="faint">{{ $t('settings.eventsDeliveriesAndTheirAttempts') }}</p>
  <form class="row" @submit.prevent="save.mutate()">
    <InputNumber
      v-model="months"
      size="small"
      :min="3"
      :max="240"
      :suffix="$t('settings.months')"
      :placeholder="$t('settings.forEver')"
      :aria-label="$t('settings.forHowManyMonthsEmpty')"
    />
    <Button
      type="submit"
      size="small"
      :severity="gone.length ? 'danger' : undefined"
      variant="outlined"
      :label="gone.length ? $t('settings.removeAndSave', { gone: gone.length }) : $t('common.save')"
      :disabled="!changed"
      :loading="save.isPending.value"
    />
  </form>
  <p v-if="changed && gone.length" role="status">
    {{ $t('settings.wouldGoAtOnceAnd', { gone: gone.map((m) => m.month).join(', ') }) }}
  </p>
  <Oops :error="history.error.value ?? save.error.value" :over="(tag) => ((from = tag), save.mutate())" />
  <table v-if="kept.length">
    <tbody>
      <tr v-for="m in kept" :key="m.month">
        <td>{{ m.month }}</td>
        <td class="faint">{{ $t('settings.events', { events: m.events.toLocaleString() }) }}</td>
        <td class="faint">{{ size(m.bytes) }}</td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.row {
  display: flex;
  align-items: flex-start;
  gap: 0.6rem;
}

.row :deep(.p-inputtext) {
  width: 8rem;
}

table {
  margin-top: 0.6rem;
  font-size: 0.85rem;
}

td {
  padding: 0.1rem 0.8rem 0.1rem 0;
}
</style>
