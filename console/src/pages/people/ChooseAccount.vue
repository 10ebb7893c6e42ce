<script setup lang="ts">
import { useMutation, useQueryClient } from '@tanstack/vue-query'
import { computed, reactive } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import FormDialog from '../../parts/form/FormDialog.vue'
import { letGo } from '../../parts/form/typed'

/** Says which account of two is used from now on, and merges those who have them. */
const props = defineProps<{ of: Schemas['MergeOutcome'] }>()
const emit = defineEmits<{ close: []; merged: [] }>()
const queries = useQueryClient()
const chosen = reactive<Record<string, string>>({})
const clashes = computed(() => props.of.clashes ?? [])
const merge = useMutation({
  mutationFn: async () => {
    const done = await ok(
      api.POST('/api/v1/people/{id}/merge', {
        params: { path: { id: props.of.personId } },
        body: { otherId: props.of.otherId, accounts: chosen },
      }),
    )
    if (done.why) throw new Error(done.why)
    return done
  },
  onSuccess: () => {
    letGo()
    void queries.invalidateQueries()
    emit('merged')
  },
})
</script>

<template>
  <FormDialog
    :title="$t('people.whichAccount', { name: of.name })"
    :submit="$t('people.merge')"
    :sending="merge.isPending.value"
    :unready="clashes.some((c) => !chosen[c.interfaceId!])"
    :error="merge.error.value"
    :typed="chosen"
    @close="emit('close')"
    @submit="merge.mutate()"
  >
    <p class="faint">{{ $t('people.whichAccountAbout') }}</p>
    <ChoiceField
      v-for="c in clashes"
      :key="c.interfaceId"
      v-model="chosen[c.interfaceId!]"
      :label="c.subject"
      :options="[c.mine!, c.theirs!].map((a) => ({ value: a, label: a }))"
    />
  </FormDialog>
</template>
