<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, reactive, ref, watch } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import Frame from '../../parts/form/Frame.vue'
import TextField from '../../parts/form/TextField.vue'
import Oops from '../../parts/Oops.vue'
import { doing } from '../../parts/triggers'
import { $t } from '../../texts'

/** Makes a badge for whoever finishes a module: issuer, badge and rule in one go, tried out, then switched on. */
const emit = defineEmits<{ close: [] }>()
const queries = useQueryClient()
const ready = useQuery({ queryKey: ['rules', 'ready'], queryFn: () => ok(api.GET('/api/v1/ready-rules')) })
const issuers = useQuery({ queryKey: ['issuers'], queryFn: () => ok(api.GET('/api/v1/issuers')) })
const organisations = useQuery({
  queryKey: ['organisations'],
  queryFn: () => ok(api.GET('/api/v1/organisations')),
})
const need = (name: string) =>
  ready.data.value?.find((r) => r.key === 'module-badge')?.needs.find((n) => n.name === name)?.choices ?? []
const module = ref('')
const mail = ref('')
const says = reactive({ issuer: '', name: '' })
watch(
  () => need('mail'),
  (all) => (mail.value ||= all.length === 1 ? all[0]!.value : ''),
  { immediate: true },
)
watch(
  () => [issuers.data.value?.items, organisations.data.value?.items] as const,
  ([known, orgs]) => {
    if (known?.length === 1) says.issuer ||= known[0]!.name
    // Of several nobody knows which is meant; the one organisation, or district, is.
    const top = orgs?.filter((o) => o.type === 'district') ?? []
    const whole = top.length ? top : (orgs ?? [])
    if (known && !known.length && whole.length === 1) says.issuer ||= whole[0]!.name
  },
  { immediate: true },
)
watch(module, (value) => {
  const title = need('module').find((m) => m.value === value)?.title ?? ''
  says.name = title.slice(title.indexOf(': ') + 1).trim()
})

// What was made stays made: who mends something and goes on does not make it twice.
const badge = ref<Schemas['Badge']>()
const rule = ref<Schemas['Rule']>()
const make = useMutation({
  mutationFn: async () => {
    const { name } = says
    if (!badge.value) {
      const wanted = says.issuer.trim()
      const known = issuers.data.value?.items.find((i) => i.name.toLowerCase() === wanted.toLowerCase())
      const issuer = known ?? (await ok(api.POST('/api/v1/issuers', { body: { name: wanted } })))
      await queries.invalidateQueries({ queryKey: ['issuers'] })
      badge.value = await ok(
        api.POST('/api/v1/badges', {
          body: {
            issuerId: issuer.id,
            name,
            description: $t('badges.finishedModule', { name }),
            criteria: $t('badges.finishModule', { name }),
          },
        }),
      )
      const params = { path: { id: badge.value.id } }
      const { design } = await ok(api.GET('/api/v1/badges/{id}/drawing', { params }))
      await ok(api.PUT('/api/v1/badges/{id}/drawing', { params, body: { design } }))
    }
    rule.value ??= await ok(
      api.POST('/api/v1/ready-rules/{key}', {
        params: { path: { key: 'module-badge' } },
        body: {
          name: $t('badges.badgeOf', { name }),
          needs: { badge: badge.value.name, module: module.value, mail: mail.value },
        },
      }),
    )
    return ok(
      api.POST('/api/v1/rules/{id}/trial', {
        params: { path: { id: rule.value.id } },
        body: { made: true },
      }),
    )
  },
  onSettled: () => queries.invalidateQueries(),
})
const on = useMutation({
  mutationFn: () =>
    ok(
      api.POST('/api/v1/rules/{id}/switch', { params: { path: { id: rule.value!.id } }, body: { on: true } }),
    ),
  onSuccess: () => queries.invalidateQueries(),
})
const trial = computed(() => make.data.value)
const live = computed(() => on.isSuccess.value)
const sending = computed(() => make.isPending.value || on.isPending.value)
const problem = computed(
  () =>
    make.error.value ??
    on.error.value ??
    ready.error.value ??
    issuers.error.value ??
    organisations.error.value,
)
const lacksModule = computed(() => ready.isSuccess.value && !need('module').length)
const lacksMail = computed(() => ready.isSuccess.value && !need('mail').length)
</script>

<template>
  <Frame
    :title="$t('badges.forModule')"
    :sending="sending"
    :error="problem"
    width="34rem"
    :typed="live ? '' : { module, ...says }"
    @close="emit('close')"
  >
    <form v-if="!trial" @submit.prevent="make.mutate()">
      <p class="faint">{{ $t('badges.aboutForModule') }}</p>
      <p v-if="lacksModule" class="urgent">
        ▲ {{ $t('badges.noModuleYet') }} <RouterLink to="/outlines">{{ $t('badges.setOutline') }}</RouterLink>
      </p>
      <p v-if="lacksMail" class="urgent">
        ▲ {{ $t('badges.noMailYet') }}
        <RouterLink to="/connections/new">{{ $t('common.connectSystem') }}</RouterLink>
      </p>
      <ChoiceField
        id="module-badge-module"
        v-model="module"
        name="needs.module"
        :label="$t('badges.module')"
        :options="need('module').map((m) => ({ value: m.value, label: m.title }))"
      />
      <TextField id="module-badge-name" v-model="says.name" name="name" :label="$t('badges.nameOfBadge')" />
      <TextField
        id="module-badge-issuer"
        v-model="says.issuer"
        name="issuer"
        :label="$t('badges.issuer')"
        :help="$t('badges.newNameMakesNewIssuer')"
      />
      <ChoiceField
        v-if="need('mail').length > 1"
        id="module-badge-mail"
        v-model="mail"
        name="needs.mail"
        :label="$t('badges.mailThrough')"
        :options="need('mail').map((m) => ({ value: m.value, label: m.title }))"
      />
      <Oops :error="problem" />
      <div class="actions">
        <Button
          type="submit"
          :label="$t('badges.makeAndTry')"
          :disabled="!module || !mail || !says.name.trim() || !says.issuer.trim()"
          :loading="sending"
        />
        <Button type="button" variant="text" :label="$t('common.cancel')" @click="emit('close')" />
      </div>
    </form>
    <template v-else>
      <p v-if="live" class="calm" role="status">{{ $t('badges.isLive', { name: says.name }) }}</p>
      <template v-else>
        <p :class="trial.passed ? 'calm' : 'urgent'" role="status">
          {{ trial.passed ? $t('badges.trialPassed') : $t('badges.trialFailed') }}
        </p>
        <ol>
          <li v-for="(s, i) in trial.steps" :key="i">
            {{ doing(s.kind)
            }}<template v-if="s.shown?.subject">{{ ` “${String(s.shown.subject)}”` }}</template>
            <span v-if="s.problem" class="urgent">▲ {{ s.problem }}</span>
          </li>
        </ol>
      </template>
      <Oops :error="problem" />
      <div class="actions">
        <Button
          v-if="!live"
          :label="$t('badges.switchOn')"
          :disabled="!trial.passed"
          :loading="sending"
          @click="on.mutate()"
        />
        <RouterLink v-if="rule" :to="`/rules/${rule.id}`">{{ $t('badges.toRule') }}</RouterLink>
        <Button type="button" variant="text" :label="$t('common.close')" @click="emit('close')" />
      </div>
    </template>
  </Frame>
</template>

<style scoped>
.urgent {
  color: var(--signal);
}

.calm {
  color: var(--good);
}
</style>
