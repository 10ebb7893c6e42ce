<script setup lang="ts">
import Button from 'primevue/button'
import Column from 'primevue/column'

import type { Schemas } from '../../api/client'
import Listing from '../../parts/Listing.vue'
import { word } from '../../parts/words'
import { type Line, urgent, writes } from './scores'

/** Scores of a preview: what was carried, what the book has, what the source has, and why. */
defineProps<{
  lines: Line[]
  codes: Schemas['ScorePreview']['codes']
  empty: string
  /** Offers to decide about those that differ. */
  decides?: boolean
}>()
const emit = defineEmits<{
  decide: [line: Line, take: 'theirs' | 'ours']
  whose: [line: Line]
  goOn: [line: Line]
}>()
const decidable = (x: Line) =>
  ['conflict', 'withdrawn'].includes(x.entry.outcome) || x.entry.code === 'score-decided'
/** What was deleted at the source leaves nothing to carry: taking that side deletes it in the book. */
const deletes = (x: Line) => x.entry.ours.text === '–'
const kind = (o: string) => (urgent.includes(o) ? 'urgent' : writes.includes(o) ? 'writes' : 'faint')
</script>

<template>
  <Listing sorts :rows="lines" :loading="false" :error="null" :empty="empty">
    <Column :header="$t('common.person')" field="name" sortable>
      <template #body="{ data }"
        ><RouterLink v-if="data.entry.personId" :to="`/people/${data.entry.personId}`">{{
          data.name
        }}</RouterLink
        ><template v-else>{{ data.name }}</template></template
      >
    </Column>
    <Column :header="$t('scores.assignment')" field="title" sortable>
      <template #body="{ data }"
        >{{ data.title }} <small class="faint below">{{ data.section }}</small></template
      >
    </Column>
    <Column :header="$t('scores.was')">
      <template #body="{ data }">{{ data.entry.was.text }}</template>
    </Column>
    <Column :header="$t('scores.theirs')">
      <template #body="{ data }"
        >{{ data.entry.theirs.text }}
        <small v-if="data.entry.theirs.comment" class="faint below">{{
          data.entry.theirs.comment
        }}</small></template
      >
    </Column>
    <Column :header="$t('scores.ours')">
      <template #body="{ data }"
        ><template v-if="data.entry.given.text !== data.entry.ours.text"
          ><span :class="{ faint: data.entry.ours.text !== '–' }">{{ data.entry.given.text }}</span
          ><template v-if="data.entry.ours.text !== '–'"> → {{ data.entry.ours.text }}</template></template
        ><template v-else>{{ data.entry.ours.text }}</template>
        <small v-if="data.entry.ours.comment" class="faint below">{{
          data.entry.ours.comment
        }}</small></template
      >
    </Column>
    <Column :header="$t('scores.whatHappens')" field="entry.outcome" sortable>
      <template #body="{ data }"
        ><b :class="kind(data.entry.outcome)">{{ word(`score-${data.entry.outcome}`) }}</b>
        <small class="below" :title="codes[data.entry.code]?.remedy">{{
          codes[data.entry.code]?.title ?? data.entry.code
        }}</small>
        <small v-if="data.entry.elsewhere" class="below">{{
          $t('scores.nowIn', { section: data.entry.elsewhere })
        }}</small>
        <small v-if="data.entry.lost" class="below">{{
          $t('scores.cannotHold', { flags: data.entry.lost.join(', ') })
        }}</small>
        <small v-if="data.entry.shortened" class="below">{{ $t('scores.commentCut') }}</small>
        <small v-if="data.entry.again" class="below">{{ $t('scores.handedInAgain') }}</small></template
      >
    </Column>
    <Column v-if="decides" style="width: 15rem">
      <template #body="{ data }">
        <Button
          v-if="data.entry.student"
          size="small"
          variant="outlined"
          :label="$t('scores.whose')"
          :aria-label="$t('scores.whoseOf', { name: data.entry.student, title: data.title })"
          @click="emit('whose', data)"
        />
        <Button
          v-if="data.entry.elsewhereId"
          size="small"
          variant="outlined"
          :label="$t('scores.goOn')"
          :aria-label="$t('scores.goOnOf', { name: data.name, section: data.entry.elsewhere })"
          @click="emit('goOn', data)"
        />
        <span v-if="decidable(data)" class="decide">
          <Button
            size="small"
            variant="outlined"
            :label="$t('scores.keepBooks', { value: data.entry.theirs.text })"
            :aria-label="
              $t('scores.keepBooksOf', { value: data.entry.theirs.text, name: data.name, title: data.title })
            "
            :disabled="data.entry.outcome === 'kept'"
            @click="emit('decide', data, 'theirs')"
          />
          <Button
            size="small"
            variant="outlined"
            :label="
              deletes(data)
                ? $t('scores.deleteOurs')
                : $t('scores.carryOurs', { value: data.entry.ours.text })
            "
            :aria-label="
              deletes(data)
                ? $t('scores.deleteOursOf', { name: data.name, title: data.title })
                : $t('scores.carryOursOf', {
                    value: data.entry.ours.text,
                    name: data.name,
                    title: data.title,
                  })
            "
            :disabled="data.entry.outcome === 'replace'"
            @click="emit('decide', data, 'ours')"
          />
        </span>
      </template>
    </Column>
  </Listing>
</template>

<style scoped>
.urgent {
  color: var(--signal);
}

.faint {
  font-weight: 400;
}

.decide {
  display: flex;
  gap: 0.3rem;
  flex-wrap: wrap;
}
</style>
