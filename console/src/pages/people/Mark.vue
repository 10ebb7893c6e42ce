<script setup lang="ts">
import { useMutation, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'

import { api, ok, type Schemas } from '../../api/client'
import Oops from '../../parts/Oops.vue'
import { when } from '../../parts/when'

/** What somebody said of a person's record, which can be dropped again. */
const props = defineProps<{ person: string; mark: Schemas['Mark'] }>()
const queries = useQueryClient()
const drop = useMutation({
  mutationFn: () => ok(api.DELETE('/api/v1/people/{id}/mark', { params: { path: { id: props.person } } })),
  onSuccess: () => queries.invalidateQueries(),
})
const words: Record<Schemas['Mark']['kind'], string> = {
  second: 'This record is a second account',
  test: 'This record is a test learner',
  neither: 'This record is neither a second account nor a test learner',
}
</script>

<template>
  <p class="mark">
    {{ words[mark.kind]
    }}<template v-if="mark.ofId">
      of <RouterLink :to="`/people/${mark.ofId}`">{{ mark.of }}</RouterLink></template
    >, says {{ mark.decidedBy }}, {{ when(mark.decidedAt) }}.
    <Button
      size="small"
      variant="text"
      label="Drop that"
      :loading="drop.isPending.value"
      @click="drop.mutate()"
    />
  </p>
  <Oops :error="drop.error.value" />
</template>

<style scoped>
.mark {
  margin: 0;
}
</style>
