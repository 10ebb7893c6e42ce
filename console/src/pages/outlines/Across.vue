<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import ToggleSwitch from 'primevue/toggleswitch'

import { api, ifMatch, ok, tagOf } from '../../api/client'
import Oops from '../../parts/Oops.vue'

/** Whether what somebody reached in one section counts in the course's other sections. */
const queries = useQueryClient()
const settings = useQuery({
  queryKey: ['learning-settings'],
  queryFn: () => ok(api.GET('/api/v1/learning-settings')),
  structuralSharing: false,
})
const save = useMutation({
  mutationFn: (across: boolean) =>
    ok(
      api.PUT('/api/v1/learning-settings', {
        params: { header: ifMatch(tagOf(settings.data.value)) },
        body: { across },
      }),
    ),
  onSettled: () => queries.invalidateQueries({ queryKey: ['learning-settings'] }),
})
</script>

<template>
  <p v-if="settings.data.value" class="row">
    <ToggleSwitch
      :model-value="settings.data.value.across"
      input-id="across"
      :disabled="save.isPending.value"
      @update:model-value="save.mutate"
    />
    <label for="across">{{ $t('outlines.progressInCourseCountsIn') }}</label>
  </p>
  <Oops :error="settings.error.value ?? save.error.value" />
</template>

<style scoped>
.row {
  display: flex;
  gap: 0.6rem;
  align-items: center;
}
</style>
