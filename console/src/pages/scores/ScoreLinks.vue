<script setup lang="ts">
import { useMutation, useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, ok, type Schemas } from '../../api/client'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import Signal from '../../parts/Signal.vue'
import { when } from '../../parts/when'
import Following from './Following.vue'
import NewScoreLink from './NewScoreLink.vue'
import ScoreCounts from './ScoreCounts.vue'

/** The score links, and how each is. */
const router = useRouter()
const list = useQuery({ queryKey: ['score-links'], queryFn: () => ok(api.GET('/api/v1/score-links')) })
const form = ref(false)
const show = (l: Schemas['ScoreLink']) => router.push(`/scores/${l.id}`)
/** Carries what there is to carry; where a value of the book would be lost, the preview is shown first. */
const carry = useMutation({
  mutationFn: async (l: Schemas['ScoreLink']) => {
    const params = { path: { id: l.id } }
    const p = await ok(api.POST('/api/v1/score-links/{id}/previews', { params }))
    if (p.losses || (!p.changes && !p.makes)) return undefined
    return ok(
      api.POST('/api/v1/score-previews/{id}/run', {
        params: { path: { id: p.id } },
        body: { approved: false },
      }),
    )
  },
  onSuccess: (r, l) => router.push(r ? `/runs/${r.id}` : `/scores/${l.id}?tab=scores`),
})
</script>

<template>
  <PageHead :title="$t('scores.scores')" :about="$t('scores.aboutScores')">
    <Button
      size="small"
      variant="outlined"
      :label="$t('shell.scoreTemplates')"
      @click="router.push('/scores/templates')"
    />
    <Button size="small" :label="$t('scores.makeDialog')" @click="form = true" />
  </PageHead>
  <Listing
    sorts
    :rows="list.data.value?.items"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    :choose="(l) => show(l as Schemas['ScoreLink'])"
    :empty="$t('scores.noLinkYet')"
    :next="{ to: '/connections', text: $t('scores.connectGradebooks') }"
  >
    <Column :header="$t('common.state')">
      <template #body="{ data }"><Signal :state="data.state" /></template>
    </Column>
    <Column :header="$t('scores.scoreLink')" field="title" sortable>
      <template #body="{ data }"
        ><RouterLink :to="`/scores/${data.id}`" @click.stop>{{ data.title }}</RouterLink>
        <small class="faint below">{{
          $t('scores.sectionCount', { n: data.sections.length }, data.sections.length)
        }}</small></template
      >
    </Column>
    <Column :header="$t('scores.fromTo')">
      <template #body="{ data }"
        >{{ data.source }} → {{ data.book }}
        <small class="faint below">{{
          $t('scores.classCalled', { name: data.sourceClass })
        }}</small></template
      >
    </Column>
    <Column :header="$t('scores.scores')">
      <template #body="{ data }"><ScoreCounts :counts="data.counts" /></template>
    </Column>
    <Column :header="$t('scores.notReady')" field="notReady" sortable />
    <Column :header="$t('scores.compared')">
      <template #body="{ data }"
        ><span class="faint">{{
          data.comparedAt ? when(data.comparedAt) : $t('common.never')
        }}</span></template
      >
    </Column>
    <Column>
      <template #body="{ data }"
        ><Button
          v-if="
            data.ranAt &&
            !data.ended &&
            !data.paused &&
            ['to-carry', 'in-step', 'needs-person'].includes(data.state)
          "
          size="small"
          variant="outlined"
          :label="$t('scores.carryShort')"
          :aria-label="$t('scores.carryOf', { title: data.title })"
          :loading="carry.isPending.value && carry.variables.value?.id === data.id"
          @click.stop="carry.mutate(data)"
      /></template>
    </Column>
  </Listing>
  <Oops :error="carry.error.value" />
  <Following @made="show" />
  <NewScoreLink v-if="form" @close="form = false" @made="show" />
</template>
