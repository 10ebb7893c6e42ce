<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import { refresh } from '../../api/live'
import Listing from '../../parts/Listing.vue'
import { mayAll } from '../../shell/may'
import FollowDialog from './FollowDialog.vue'

/** Score links whose term ends, and the sections with which they go on. */
const emit = defineEmits<{ made: [Schemas['ScoreLink']] }>()
const queries = useQueryClient()
const list = useQuery({
  queryKey: ['score-links', 'following'],
  queryFn: () => ok(api.GET('/api/v1/following-score-links')),
  enabled: mayAll('look'),
})
const asking = ref<Schemas['FollowingScoreLink']>()
const copied = async (l: Schemas['ScoreLink']) => {
  asking.value = undefined
  await refresh(queries, 'scoreLink')
  emit('made', l)
}
const follow = useMutation({
  mutationFn: (f: Schemas['FollowingScoreLink']) =>
    ok(
      api.POST('/api/v1/score-links/{id}/follow', {
        params: { path: { id: f.linkId } },
        body: {},
      }),
    ),
  onSuccess: copied,
})
</script>

<template>
  <section v-if="list.error.value || list.data.value?.items.length">
    <h2>{{ $t('scores.termEnds') }}</h2>
    <p class="faint">{{ $t('scores.termEndsAbout') }}</p>
    <Listing
      :rows="list.data.value?.items.map((f) => ({ id: f.linkId, ...f }))"
      :loading="list.isLoading.value"
      :error="list.error.value ?? follow.error.value"
      :again="list.refetch"
      empty=""
    >
      <Column :header="$t('scores.scoreLink')">
        <template #body="{ data }"
          ><RouterLink :to="`/scores/${data.linkId}`">{{ data.title }}</RouterLink></template
        >
      </Column>
      <Column :header="$t('scores.goesOnIn')">
        <template #body="{ data }"
          ><span v-for="m in data.moves" :key="m.from" class="below"
            >{{ m.from }} → {{ m.to ?? $t('scores.noneYet') }}
            <small class="faint">{{ m.evidence.join(', ') }}</small></span
          ></template
        >
      </Column>
      <Column :header="$t('scores.classThere')">
        <template #body="{ data }"
          >{{ data.sourceClass ?? '–' }}
          <small v-if="data.why" class="faint below">{{ data.why }}</small></template
        >
      </Column>
      <Column>
        <template #body="{ data }"
          ><Button
            size="small"
            variant="outlined"
            :label="data.ready ? $t('scores.copyLink') : $t('scores.copyLinkDialog')"
            :aria-label="$t('scores.copyLinkOf', { title: data.title })"
            :disabled="!data.ready && !data.moves.every((m: Schemas['ScoreMove']) => m.to)"
            :loading="follow.isPending.value"
            @click="data.ready ? follow.mutate(data) : (asking = data)"
        /></template>
      </Column>
    </Listing>
    <FollowDialog v-if="asking" :next="asking" @close="asking = undefined" @done="copied" />
  </section>
</template>
