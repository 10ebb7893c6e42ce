<script setup lang="ts">
import { useMutation, useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { computed } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import Frame from '../../parts/form/Frame.vue'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import { day } from '../../parts/when'

/** Links an assignment to one that the book has, or unlinks it. */
const props = defineProps<{ link: Schemas['ScoreLink']; assignment: Schemas['Assignment'] }>()
const emit = defineEmits<{ close: []; done: [] }>()
const path = computed(() => ({ path: { id: props.link.id, item: props.assignment.id } }))
const list = useQuery({
  queryKey: ['score-links', () => props.link.id, 'counterparts', () => props.assignment.id],
  queryFn: () =>
    ok(api.GET('/api/v1/score-links/{id}/assignments/{item}/counterparts', { params: path.value })),
  enabled: computed(() => !props.assignment.book),
})
const rows = computed(() => list.data.value?.items.map((x) => ({ id: x.item.id, ...x })))
const put = useMutation({
  mutationFn: (bookItem: string) =>
    ok(
      api.PUT('/api/v1/score-links/{id}/assignments/{item}/link', { params: path.value, body: { bookItem } }),
    ),
  onSuccess: () => emit('done'),
})
</script>

<template>
  <Frame
    v-slot="{ close }"
    :title="`${assignment.title}, ${assignment.section}`"
    width="48rem"
    :of="put"
    @close="emit('close')"
  >
    <template v-if="assignment.book">
      <p>{{ $t('scores.unlinkAbout', { title: assignment.book.title }) }}</p>
      <Oops :error="put.error.value" />
      <div class="actions">
        <Button :label="$t('scores.unlink')" :loading="put.isPending.value" @click="put.mutate('')" />
        <Button variant="text" :label="$t('common.cancel')" @click="close" />
      </div>
    </template>
    <template v-else>
      <p>{{ $t('scores.linkAbout') }}</p>
      <Oops :error="put.error.value" />
      <Listing
        :rows="rows"
        :loading="list.isLoading.value"
        :error="list.error.value"
        :again="list.refetch"
        :empty="$t('scores.noCounterpart')"
      >
        <Column :header="$t('scores.inBook')" field="item.title" />
        <Column :header="$t('scores.due')">
          <template #body="{ data }">{{ data.item.due ? day(data.item.due) : $t('scores.noDate') }}</template>
        </Column>
        <Column :header="$t('scores.points')" field="item.maximum" />
        <Column :header="$t('scores.valuesThatAgree')">
          <template #body="{ data }">{{
            $t('scores.agreeOf', { equal: data.equal, all: data.equal + data.different })
          }}</template>
        </Column>
        <Column :header="$t('scores.likely')">
          <template #body="{ data }">{{ data.score }} %</template>
        </Column>
        <Column>
          <template #body="{ data }"
            ><span v-if="data.linked" class="faint">{{ $t('scores.linkedAlready') }}</span
            ><Button
              v-else
              size="small"
              variant="outlined"
              :label="$t('scores.link')"
              :aria-label="$t('scores.linkTo', { title: data.item.title })"
              :loading="put.isPending.value"
              @click="put.mutate(data.item.id)"
          /></template>
        </Column>
      </Listing>
      <div class="actions">
        <Button variant="text" :label="$t('common.close')" @click="close" />
      </div>
    </template>
  </Frame>
</template>
