<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import ToggleSwitch from 'primevue/toggleswitch'
import { useToast } from 'primevue/usetoast'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, ok, type Schemas } from '../../api/client'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import { actions, happening } from '../../parts/triggers'
import { useFlip } from './flip'
import ReadyRules from './ReadyRules.vue'
import RuleForm from './RuleForm.vue'
import SwitchOff from './SwitchOff.vue'
import SwitchOn from './SwitchOn.vue'

type Rule = Schemas['Rule']

const queries = useQueryClient()

const list = useQuery({ queryKey: ['rules'], queryFn: () => ok(api.GET('/api/v1/rules')) })
const rows = computed(() => list.data.value?.items)
const ready = ref(false)
const toast = useToast()
const checkNow = useMutation({
  mutationFn: () => ok(api.POST('/api/v1/check-now')),
  onSuccess: () => {
    toast.add({ severity: 'success', summary: 'Checked. What follows from it is on its way.', life: 6_000 })
    return queries.invalidateQueries({ queryKey: ['rules'] })
  },
})
const form = ref<{ edit?: Rule } | undefined>()
const { flip, asking, leave } = useFlip()
const router = useRouter()
const then = (r: Rule) =>
  r.actions.map((a) => (a.after ? `after ${a.after} ` : '') + actions[a.kind]).join(', then ')
</script>

<template>
  <PageHead
    title="Rules"
    about="When something happens, if a condition holds, then do something. Once per person, unless said otherwise."
  >
    <Button
      size="small"
      variant="text"
      label="Check now"
      title="Who stopped, whose access has ended, and whether what rules need at services is there; otherwise every quarter of an hour"
      :loading="checkNow.isPending.value"
      @click="checkNow.mutate()"
    />
    <Button size="small" variant="outlined" label="Ready rules…" @click="ready = true" />
    <Button size="small" label="Make a rule…" @click="form = {}" />
  </PageHead>
  <Oops :error="checkNow.error.value ?? (asking ? null : flip.error.value)" />
  <SwitchOn
    v-if="asking?.consent"
    :rule="asking.rule"
    :message="asking.message"
    @close="leave"
    @choose="flip.mutate(asking!)"
  />
  <SwitchOff
    v-else-if="asking"
    :name="asking.rule.name"
    :message="asking.message"
    @close="leave"
    @choose="(toCome) => flip.mutate({ rule: asking!.rule, toCome })"
  />
  <Listing
    sorts
    :rows="rows"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    empty="No rule yet. Make one or choose a ready one, try it out, then switch it on."
    :choose="(r) => router.push(`/rules/${(r as Rule).id}`)"
  >
    <Column header="On">
      <template #body="{ data }">
        <ToggleSwitch
          :model-value="data.on"
          :aria-label="`${data.name} is on`"
          @click.stop
          @update:model-value="flip.mutate({ rule: data })"
        />
      </template>
    </Column>
    <Column header="Rule" field="name" sortable>
      <template #body="{ data }"
        ><RouterLink :to="`/rules/${data.id}`" @click.stop>{{ data.name }}</RouterLink>
        <span v-if="data.state === 'draft'" class="faint"> draft</span></template
      >
    </Column>
    <Column header="When" field="trigger" sortable>
      <template #body="{ data }">
        {{ happening(data.trigger) }} <code class="faint">{{ data.trigger }}</code>
        <div v-if="data.where" class="faint">{{ data.where }}</div>
        <div v-if="data.condition">
          <code>{{ data.condition }}</code>
        </div>
      </template>
    </Column>
    <Column header="Then">
      <template #body="{ data }">{{ then(data) }}</template>
    </Column>
    <Column field="fired" header="Fired" sortable />
    <Column field="delivered" header="Delivered" sortable />
    <Column header="Waiting" field="waiting" sortable>
      <template #body="{ data }"
        ><span :class="{ urgent: data.waiting }">{{ data.waiting }}</span></template
      >
    </Column>
    <Column>
      <template #body="{ data }"
        ><Button size="small" variant="text" label="Edit…" @click.stop="form = { edit: data }"
      /></template>
    </Column>
  </Listing>
  <ReadyRules v-if="ready" @close="ready = false" />
  <RuleForm v-if="form" :edit="form.edit" @close="form = undefined" />
</template>

<style scoped>
.urgent {
  color: var(--signal);
  font-weight: 600;
}
</style>
