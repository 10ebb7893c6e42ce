<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed } from 'vue'

import { api, ok } from '../../api/client'
import Oops from '../../parts/Oops.vue'
import { when } from '../../parts/when'

/** Who wants no more mails of a rule, and the way back for somebody who asks for it. */
const props = defineProps<{ id: string }>()
const queries = useQueryClient()
const list = useQuery({
  queryKey: ['rules', () => props.id, 'unsubscribed'],
  queryFn: () => ok(api.GET('/api/v1/rules/{id}/unsubscribed', { params: { path: { id: props.id } } })),
})
const rows = computed(() => list.data.value?.items ?? [])
const again = useMutation({
  mutationFn: (address: string) =>
    ok(
      api.DELETE('/api/v1/rules/{id}/unsubscribed/{address}', {
        params: { path: { id: props.id, address } },
      }),
    ),
  onSuccess: () => queries.invalidateQueries({ queryKey: ['rules'] }),
})
</script>

<template>
  <section v-if="rows.length || list.error.value" class="sheet" :aria-label="$t('rules.unsubscribed')">
    <h2>{{ $t('rules.unsubscribedTitle') }}</h2>
    <Oops :error="list.error.value ?? again.error.value" />
    <table>
      <tbody>
        <tr v-for="u in rows" :key="u.address">
          <td>{{ u.address }}</td>
          <td class="faint">{{ when(u.at) }}</td>
          <td>
            <Button
              size="small"
              variant="text"
              :label="$t('rules.sendThemAgain')"
              :loading="again.isPending.value && again.variables.value === u.address"
              @click="again.mutate(u.address)"
            />
          </td>
        </tr>
      </tbody>
    </table>
  </section>
</template>

<style scoped>
section {
  padding: 0 1rem 0.8rem;
  margin-bottom: 1rem;
}

td {
  padding: 0.1rem 0.8rem 0.1rem 0;
}
</style>
