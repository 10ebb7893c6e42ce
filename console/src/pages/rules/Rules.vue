<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import ToggleSwitch from 'primevue/toggleswitch'
import { computed, ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import RuleForm from './RuleForm.vue'

type Rule = Schemas['Rule']

const queries = useQueryClient()
const list = useQuery({ queryKey: ['rules'], queryFn: () => ok(api.GET('/api/v1/rules')) })
const rows = computed(() => list.data.value?.items)
const form = ref<{ edit?: Rule } | undefined>()
const flip = useMutation({
  mutationFn: (r: Rule) =>
    ok(api.POST('/api/v1/rules/{id}/switch', { params: { path: { id: r.id } }, body: { on: !r.on } })),
  onSettled: () => queries.invalidateQueries({ queryKey: ['rules'] }),
})
const verbs: Record<string, string> = { send: 'send a signed event', mail: 'mail', award: 'award a badge' }
</script>

<template>
  <PageHead
    title="Rules"
    about="When something happens, if a condition holds, then do something. Once per person, unless said otherwise."
  >
    <Button size="small" label="Make a rule…" @click="form = {}" />
  </PageHead>
  <Oops :error="flip.error.value" />
  <Listing
    :rows="rows"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    empty="No rule yet. Make one, look at it, then switch it on."
  >
    <Column header="On">
      <template #body="{ data }">
        <ToggleSwitch
          :model-value="data.on"
          :aria-label="`${data.name} is on`"
          @update:model-value="flip.mutate(data)"
        />
      </template>
    </Column>
    <Column field="name" header="Rule" />
    <Column header="When">
      <template #body="{ data }">
        {{ data.trigger }} <span v-if="data.scope?.module" class="faint">{{ data.scope.module }}</span>
        <div v-if="data.condition">
          <code>{{ data.condition }}</code>
        </div>
      </template>
    </Column>
    <Column header="Then">
      <template #body="{ data }">{{
        data.actions.map((a: { kind: string }) => verbs[a.kind]).join(', then ')
      }}</template>
    </Column>
    <Column field="fired" header="Fired" />
    <Column field="delivered" header="Delivered" />
    <Column header="Waiting">
      <template #body="{ data }"
        ><span :class="{ urgent: data.waiting }">{{ data.waiting }}</span></template
      >
    </Column>
    <Column>
      <template #body="{ data }"
        ><Button size="small" variant="text" label="Edit…" @click="form = { edit: data }"
      /></template>
    </Column>
  </Listing>
  <RuleForm v-if="form" :edit="form.edit" @close="form = undefined" />
</template>

<style scoped>
.urgent {
  color: var(--signal);
  font-weight: 600;
}
</style>
