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
  <small v-if="list.error.value" class="problem" role="alert">{{
    $t('rules.whatThereIsAtService', { message: list.error.value.message })
  }}</small>
  <ChoiceField
    v-else
    :model-value="undefined"
    :options="(list.data.value ?? []).map((v) => ({ value: v, label: v }))"
    :placeholder="
      list.data.value?.length === 0 ? $t('rules.serviceHasNone') : $t('rules.chooseOneThatServiceHas')
    "
    hidden
    :label="$t('rules.chooseOneThatServiceHasLabel', { label })"
    :none="$t('rules.serviceHasNoneSentence')"
    @update:model-value="(v) => v && emit('choose', v)"
  />
</template>

<style scoped>
.problem {
  color: var(--signal);
}
</style>
