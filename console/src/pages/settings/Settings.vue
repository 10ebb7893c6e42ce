<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, ref } from 'vue'

import { api, ifMatch, ok, tagOf, type Schemas } from '../../api/client'
import { useDraft } from '../../parts/draft'
import TextField from '../../parts/form/TextField.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import ScheduleField from '../../parts/ScheduleField.vue'
import { when } from '../../parts/when'
import History from './History.vue'
import TemplateForm from './TemplateForm.vue'

/** How the institution wants its pairings made and kept. */
const queries = useQueryClient()
const templates = useQuery({
  queryKey: ['templates'],
  queryFn: () => ok(api.GET('/api/v1/templates')),
  structuralSharing: false,
})
const edited = useDraft<Schemas['Template'][]>(templates.data)
const list = computed(() => edited.draft.value ?? [])
const loaded = computed(() => !!edited.draft.value)
const save = useMutation({
  mutationFn: () =>
    ok(api.PUT('/api/v1/templates', { params: { header: edited.header.value }, body: list.value })),
  onSuccess: () => (edited.kept(), queries.invalidateQueries({ queryKey: ['templates'] })),
})

const pause = useQuery({
  queryKey: ['maintenance'],
  queryFn: () => ok(api.GET('/api/v1/maintenance')),
  structuralSharing: false,
})
const note = ref('')
const setPause = useMutation({
  mutationFn: (on: boolean) =>
    ok(
      api.PUT('/api/v1/maintenance', {
        params: { header: ifMatch(tagOf(pause.data.value)) },
        body: { on, note: note.value },
      }),
    ),
  onSettled: () => queries.invalidateQueries(),
})

const whole = useQuery({
  queryKey: ['whole'],
  queryFn: () => ok(api.GET('/api/v1/full-comparison')),
  structuralSharing: false,
})
const compared = useDraft<Schemas['FullComparison']>(whole.data)
const schedule = computed({
  get: () => compared.draft.value?.schedule,
  set: (s) => s && compared.draft.value && (compared.draft.value.schedule = s),
})
const setWhole = useMutation({
  mutationFn: () =>
    ok(
      api.PUT('/api/v1/full-comparison', {
        params: { header: compared.header.value },
        body: { schedule: schedule.value ?? {} },
      }),
    ),
  onSuccess: () => (compared.kept(), queries.invalidateQueries({ queryKey: ['whole'] })),
})

function add() {
  const first = list.value[0]!
  list.value.push({ name: '', target: first.target, policy: JSON.parse(JSON.stringify(first.policy)) })
}
</script>

<template>
  <PageHead :title="$t('settings.settings')" :about="$t('settings.howPairingsAreMadeAnd')">
    <RouterLink to="/settings/set-up">{{ $t('settings.setUpAsFiles') }}</RouterLink>
  </PageHead>
  <Oops :error="templates.error.value ?? pause.error.value ?? whole.error.value" />
  <div class="two">
    <section>
      <h2>{{ $t('settings.templates') }}</h2>
      <p class="faint">{{ $t('settings.firstIsUsedWhereverNone') }}</p>
      <form @submit.prevent="save.mutate()">
        <TemplateForm
          v-for="(_, i) in list"
          :key="i"
          v-model="list[i]!"
          :usual="i === 0"
          @drop="list.splice(i, 1)"
          @first="list.unshift(...list.splice(i, 1))"
        />
        <Oops :error="save.error.value" :over="(tag) => (edited.over(tag), save.mutate())" />
        <div class="actions">
          <Button
            type="button"
            size="small"
            variant="outlined"
            :label="$t('settings.addTemplate')"
            :disabled="!loaded"
            @click="add"
          />
          <Button
            type="submit"
            size="small"
            :label="$t('common.save')"
            :disabled="!loaded"
            :loading="save.isPending.value"
          />
        </div>
      </form>
    </section>
    <aside>
      <h2>{{ $t('settings.everything') }}</h2>
      <template v-if="pause.data.value?.on">
        <p>
          {{
            $t('settings.pausedSinceBy', {
              since: when(pause.data.value.since),
              by: pause.data.value.by,
              note: pause.data.value.note,
            })
          }}
        </p>
        <Button
          size="small"
          :label="$t('settings.goOn')"
          :loading="setPause.isPending.value"
          @click="setPause.mutate(false)"
        />
      </template>
      <template v-else>
        <p class="faint">{{ $t('settings.readsRunsAndDeliveriesWait') }}</p>
        <TextField
          v-model="note"
          :placeholder="$t('settings.whyForWhoeverSeesIt')"
          hidden
          :label="$t('common.why')"
        />
        <Button
          size="small"
          variant="outlined"
          :label="$t('settings.pauseEverything')"
          :loading="setPause.isPending.value"
          @click="setPause.mutate(true)"
        />
      </template>
      <Oops :error="setPause.error.value" />
      <h2>{{ $t('settings.compareAll') }}</h2>
      <p class="faint">{{ $t('settings.readsCompareWhatTheyChanged') }}</p>
      <form class="row" @submit.prevent="setWhole.mutate()">
        <ScheduleField id="whole" v-model="schedule" :kinds="['by-hand', 'every', 'daily']" />
        <Button
          type="submit"
          size="small"
          variant="outlined"
          :label="$t('common.save')"
          :loading="setWhole.isPending.value"
        />
      </form>
      <p v-if="whole.data.value?.nextAt" class="faint">
        {{ $t('settings.next', { nextAt: when(whole.data.value.nextAt) }) }}
      </p>
      <Oops :error="setWhole.error.value" :over="(tag) => (compared.over(tag), setWhole.mutate())" />
      <History />
    </aside>
  </div>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 18rem;
  gap: 2rem;
}

aside :deep(.p-inputtext) {
  width: 100%;
  margin-bottom: 0.5rem;
}

.row {
  display: grid;
  grid-template-columns: minmax(0, 1fr);
  justify-items: start;
  gap: 0.6rem;
}
</style>
