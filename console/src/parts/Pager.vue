<script setup lang="ts">
import Paginator, { type PageState } from 'primevue/paginator'

import { $t } from '../texts'

/** Turning the pages of a list, the newest first unless said otherwise; the cursors of the
 * pages before are kept. */
const cursor = defineModel<string[]>({ required: true })
const {
  next = undefined,
  back = undefined,
  on = undefined,
} = defineProps<{ next?: string; back?: string; on?: string }>()

function turn({ page }: PageState) {
  cursor.value = page < cursor.value.length ? cursor.value.slice(0, page) : [...cursor.value, next!]
}
</script>

<template>
  <Paginator
    v-if="cursor.length || next"
    :first="cursor.length"
    :rows="1"
    :total-records="cursor.length + (next ? 2 : 1)"
    template="PrevPageLink NextPageLink"
    :pt="{
      prev: { 'aria-label': back ?? $t('parts.newer'), class: 'turn' },
      next: { 'aria-label': on ?? $t('parts.older'), class: 'turn' },
    }"
    @page="turn"
  >
    <template #prevpagelinkicon>← {{ back ?? $t('parts.newer') }}</template>
    <template #nextpagelinkicon>{{ on ?? $t('parts.older') }} →</template>
  </Paginator>
</template>

<style scoped>
:deep(.turn) {
  width: auto;
  padding: 0 0.6rem;
  border-radius: 3px;
}
</style>
