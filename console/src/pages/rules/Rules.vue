<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import ToggleSwitch from 'primevue/toggleswitch'
import { useToast } from 'primevue/usetoast'
import { computed, defineAsyncComponent, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, ok, type Schemas } from '../../api/client'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import { actions, happening } from '../../parts/triggers'
import { $t } from '../../texts'
import { useFlip } from './flip'
import ReadyRules from './ReadyRules.vue'
import RuleForm from './RuleForm.vue'
import SwitchOff from './SwitchOff.vue'
import SwitchOn from './SwitchOn.vue'

type Rule = Schemas['Rule']

// Only those who begin need them.
const RuleSteps = defineAsyncComponent(() => import('../start/RuleSteps.vue'))

const queries = useQueryClient()

const list = useQuery({ queryKey: ['rules'], queryFn: () => ok(api.GET('/api/v1/rules')) })
const rows = computed(() => list.data.value?.items)
const ready = ref(false)
const toast = useToast()
const checkNow = useMutation({
  mutationFn: () => ok(api.POST('/api/v1/check-now')),
  onSuccess: () => {
    toast.add({ severity: 'success', summary: $t('rules.checkedWhatFollowsFromIt'), life: 6_000 })
    return queries.invalidateQueries({ queryKey: ['rules'] })
  },
})
const form = ref<{ edit?: Rule } | undefined>()
const { flip, asking, leave } = useFlip()
const router = useRouter()
const then = (r: Rule) =>
  r.actions
    .map((a) => (a.after ? $t('rules.afterAfter', { after: a.after }) : '') + actions[a.kind])
    .join($t('rules.commaThen'))
</script>

<template>
  <PageHead :title="$t('rules.rules')" :about="$t('rules.whenSomethingHappensIfCondition')">
    <Button
      size="small"
      variant="text"
      :label="$t('rules.checkNow')"
      :title="$t('rules.whoStoppedWhoseAccessHas')"
      :loading="checkNow.isPending.value"
      @click="checkNow.mutate()"
    />
    <Button size="small" variant="outlined" :label="$t('rules.readyRulesDialog')" @click="ready = true" />
    <Button size="small" :label="$t('rules.makeRuleDialog')" @click="form = {}" />
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
    :empty="$t('rules.noRuleYetMakeOne')"
    :choose="(r) => router.push(`/rules/${(r as Rule).id}`)"
  >
    <Column :header="$t('rules.on')">
      <template #body="{ data }">
        <ToggleSwitch
          :model-value="data.on"
          :aria-label="$t('rules.isOn', { name: data.name })"
          @click.stop
          @update:model-value="flip.mutate({ rule: data })"
        />
      </template>
    </Column>
    <Column :header="$t('common.rule')" field="name" sortable>
      <template #body="{ data }"
        ><RouterLink :to="`/rules/${data.id}`" @click.stop>{{ data.name }}</RouterLink>
        <span v-if="data.state === 'draft'" class="faint">{{ ' ' }}{{ $t('rules.draft') }}</span></template
      >
    </Column>
    <Column :header="$t('rules.whenLabel')" field="trigger" sortable>
      <template #body="{ data }">
        {{ happening(data.trigger) }} <code class="faint">{{ data.trigger }}</code>
        <div v-if="data.where" class="faint">{{ data.where }}</div>
        <div v-if="data.condition">
          <code>{{ data.condition }}</code>
        </div>
      </template>
    </Column>
    <Column :header="$t('rules.then')">
      <template #body="{ data }">{{ then(data) }}</template>
    </Column>
    <Column field="fired" :header="$t('rules.fired')" sortable />
    <Column field="delivered" :header="$t('rules.delivered')" sortable />
    <Column :header="$t('rules.waitingColumn')" field="waiting" sortable>
      <template #body="{ data }"
        ><span :class="{ urgent: data.waiting }">{{ data.waiting }}</span></template
      >
    </Column>
    <Column>
      <template #body="{ data }"
        ><Button size="small" variant="text" :label="$t('common.edit')" @click.stop="form = { edit: data }"
      /></template>
    </Column>
  </Listing>
  <RuleSteps v-if="rows && !rows.some((r) => r.delivered)" :rules="rows" />
  <ReadyRules v-if="ready" @close="ready = false" />
  <RuleForm v-if="form" :edit="form.edit" @close="form = undefined" />
</template>

<style scoped>
.urgent {
  color: var(--signal);
  font-weight: 600;
}
</style>
