<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { computed, ref } from 'vue'

import { api, ifMatch, ok, type Schemas, tagOf } from '../../api/client'
import { ask } from '../../parts/form/ask'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import { word } from '../../parts/words'
import { $t } from '../../texts'
import TemplateDialog from './TemplateDialog.vue'

/** What score links begin with, and what is expected of gradebooks. */
const queries = useQueryClient()
const list = useQuery({
  queryKey: ['score-templates'],
  queryFn: () => ok(api.GET('/api/v1/score-templates')),
  structuralSharing: false,
})
const all = computed(() => list.data.value)
const header = computed(() => ifMatch(tagOf(list.data.value)))
const usual = useQuery({
  queryKey: ['score-templates', 'usual'],
  queryFn: () => ok(api.GET('/api/v1/score-templates/for')),
})
const editing = ref<{ at?: number }>()
const refreshed = async () => {
  editing.value = undefined
  await queries.invalidateQueries({ queryKey: ['score-templates'] })
}
const drop = useMutation({
  mutationFn: (at: number) =>
    ok(
      api.PUT('/api/v1/score-templates', {
        params: { header: header.value },
        body: all.value!.filter((_, i) => i !== at).map((t) => ({ ...t, organisation: undefined })),
      }),
    ),
  onSettled: refreshed,
})
async function dropAsked(t: Schemas['ScoreTemplate'], at: number) {
  const yes = await ask({
    title: $t('scores.dropTemplate', { name: t.name }),
    text: $t('scores.dropTemplateAbout'),
    yes: $t('common.remove'),
    no: $t('common.cancel'),
  })
  if (yes) drop.mutate(at)
}
const scheduled = (t: Schemas['ScoreTemplate']) => {
  const kind = t.policy.schedule?.kind
  return kind && kind !== 'by-hand' ? $t('scores.isScheduled') : $t('scores.byHand')
}
const expected = (t: Schemas['ScoreTemplate']) =>
  [
    ...(t.expected?.categories ?? []).map((c) =>
      c.weight === undefined ? c.title : `${c.title} ${c.weight} %`,
    ),
    ...Object.entries(t.expected?.scale ?? {}).map(([word, value]) => `${word} = ${value}`),
  ].join(', ')
</script>

<template>
  <PageHead :title="$t('shell.scoreTemplates')" :about="$t('scores.aboutTemplates')">
    <Button
      size="small"
      :label="$t('scores.newTemplateDialog')"
      :disabled="!all || !usual.data.value"
      @click="editing = {}"
    />
  </PageHead>
  <Oops :error="drop.error.value ?? usual.error.value" />
  <Listing
    :rows="all?.map((t, at) => ({ id: t.name, at, ...t }))"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    :choose="(t) => (editing = { at: t.at as number })"
    :empty="$t('scores.noTemplate')"
  >
    <Column :header="$t('scores.template')">
      <template #body="{ data }"
        ><b>{{ data.name }}</b>
        <small class="faint below">{{ data.organisation || $t('scores.byNameOnly') }}</small></template
      >
    </Column>
    <Column :header="$t('scores.mode')">
      <template #body="{ data }">{{ word(`mode-${data.policy.mode}`) }}</template>
    </Column>
    <Column :header="$t('common.runsByItself')">
      <template #body="{ data }">{{ scheduled(data) }}</template>
    </Column>
    <Column :header="$t('scores.expected')">
      <template #body="{ data }">{{ expected(data) || $t('scores.nothing') }}</template>
    </Column>
    <Column>
      <template #body="{ data }"
        ><Button
          size="small"
          variant="text"
          :label="$t('common.remove')"
          :aria-label="$t('scores.dropTemplateOf', { name: data.name })"
          @click.stop="dropAsked(data, data.at)"
      /></template>
    </Column>
  </Listing>
  <TemplateDialog
    v-if="editing && all && usual.data.value"
    :list="all"
    :at="editing.at"
    :usual="usual.data.value.policy"
    :header="header"
    @close="editing = undefined"
    @done="refreshed"
  />
</template>
