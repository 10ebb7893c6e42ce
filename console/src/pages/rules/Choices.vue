<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'

import { api, ok } from '../../api/client'
import ChoiceField from '../../parts/form/ChoiceField.vue'

/** What a service has to choose from: the values of an operation's field, or its groups. */
const props = defineProps<{ interfaceId: string; operation?: string; field?: string; label: string }>()
const emit = defineEmits<{ choose: [string] }>()
const list = useQuery({
  queryKey: ['choices', () => props.interfaceId, () => props.operation, () => props.field],
  queryFn: () =>
    ok(
      api.GET('/api/v1/interfaces/{id}/choices', {
        params: {
          path: { id: props.interfaceId },
          query: { operation: props.operation, field: props.field },
        },
      }),
    ),
  retry: false,
})
</script>

<template>
  <small v-if="list.error.value" class="problem" role="alert"
    >What there is at the service could not be looked at: {{ list.error.value.message }}</small
  >
  <ChoiceField
    v-else
    :model-value="undefined"
    :options="(list.data.value ?? []).map((v) => ({ value: v, label: v }))"
    :placeholder="list.data.value?.length === 0 ? 'the service has none' : 'choose one that the service has'"
    hidden
    :label="`${label}: choose one that the service has`"
    none="The service has none."
    @update:model-value="(v) => v && emit('choose', v)"
  />
</template>

<style scoped>
.problem {
  color: var(--signal);
}
</style>
