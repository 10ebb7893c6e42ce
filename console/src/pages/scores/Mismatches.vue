<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Column from 'primevue/column'

import { api, ok, type Schemas } from '../../api/client'
import Listing from '../../parts/Listing.vue'
import { word } from '../../parts/words'

/** What is set up differently at both sides of a score link, or not as it is expected. */
const props = defineProps<{ link: Schemas['ScoreLink'] }>()
const differ = useQuery({
  queryKey: ['score-links', () => props.link.id, 'mismatches'],
  queryFn: () =>
    ok(api.GET('/api/v1/score-links/{id}/mismatches', { params: { path: { id: props.link.id } } })),
})
</script>

<template>
  <section>
    <h2>{{ $t('scores.mismatches') }}</h2>
    <p class="faint">
      {{
        differ.data.value?.template
          ? $t('scores.expectedBy', { name: differ.data.value.template })
          : $t('scores.nothingExpected')
      }}
      <RouterLink to="/scores/templates">{{ $t('shell.scoreTemplates') }}</RouterLink>
    </p>
    <Listing
      :rows="differ.data.value?.items.map((m, at) => ({ id: `${at}`, ...m }))"
      :loading="differ.isLoading.value"
      :error="differ.error.value"
      :again="differ.refetch"
      :empty="link.comparedAt ? $t('scores.noMismatch') : $t('scores.notComparedYet')"
    >
      <Column :header="$t('scores.what')">
        <template #body="{ data }"
          >{{ word(`mismatch-${data.kind}`) }} <b v-if="data.about">{{ data.about }}</b></template
        >
      </Column>
      <Column :header="$t('scores.atSource')">
        <template #body="{ data }">{{ data.source ?? '–' }}</template>
      </Column>
      <Column :header="$t('scores.inBook')">
        <template #body="{ data }">{{ data.book ?? '–' }}</template>
      </Column>
      <Column :header="$t('scores.expected')">
        <template #body="{ data }">{{ data.expected ?? '–' }}</template>
      </Column>
    </Listing>
  </section>
</template>
