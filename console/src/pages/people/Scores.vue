<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Column from 'primevue/column'

import { api, ok } from '../../api/client'
import Listing from '../../parts/Listing.vue'
import { word } from '../../parts/words'

/** Scores of somebody, in the sections in which they are or were. */
const props = defineProps<{ person: string }>()
const scores = useQuery({
  queryKey: ['score-links', 'of-person', () => props.person],
  queryFn: () => ok(api.GET('/api/v1/people/{id}/scores', { params: { path: { id: props.person } } })),
})
</script>

<template>
  <section v-if="scores.error.value || scores.data.value?.items.length">
    <h2>{{ $t('scores.scores') }}</h2>
    <Listing
      sorts
      :rows="scores.data.value?.items.map((x, id) => ({ id, ...x }))"
      :loading="scores.isLoading.value"
      :error="scores.error.value"
      :again="scores.refetch"
      empty=""
    >
      <Column :header="$t('scores.assignment')" field="assignment" sortable>
        <template #body="{ data }"
          ><a v-if="data.page" :href="data.page" target="_blank" rel="noopener">{{ data.assignment }}</a
          ><template v-else>{{ data.assignment }}</template>
          <small class="faint below">{{ data.section }}</small></template
        >
      </Column>
      <Column :header="$t('scores.atSource')">
        <template #body="{ data }">{{ data.given.text }}</template>
      </Column>
      <Column :header="$t('scores.inBook')">
        <template #body="{ data }">{{ data.inBook.text }}</template>
      </Column>
      <Column :header="$t('common.state')" field="outcome" sortable>
        <template #body="{ data }"
          ><RouterLink :to="`/scores/${data.linkId}?tab=scores`">{{
            word(`score-${data.outcome}`)
          }}</RouterLink>
          <small class="below" :title="data.reason.remedy">{{ data.reason.title }}</small>
          <small v-if="data.elsewhere" class="below">{{
            $t('scores.nowIn', { section: data.elsewhere })
          }}</small></template
        >
      </Column>
    </Listing>
  </section>
</template>

<style scoped>
.below {
  display: block;
}
</style>
