<script setup lang="ts">
import Button from 'primevue/button'
import Paginator, { type PageState } from 'primevue/paginator'

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
    @page="turn"
  >
    <template #container="{ prevPageCallback, nextPageCallback }">
      <Button
        size="small"
        variant="text"
        :label="`← ${back ?? $t('parts.newer')}`"
        :disabled="!cursor.length"
        @click="prevPageCallback"
      />
      <Button
        size="small"
        variant="text"
        :label="`${on ?? $t('parts.older')} →`"
        :disabled="!next"
        @click="nextPageCallback"
      />
    </template>
  </Paginator>
</template>
