<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import Fold from '../../parts/Fold.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import { $t } from '../../texts'
import OwnForm from './OwnForm.vue'
import OwnSection from './OwnSection.vue'

/** The sections that a teacher teaches, in an order, with names and pictures of their own. */
type Owned = Schemas['TaughtSection']
const queries = useQueryClient()
const list = useQuery({
  queryKey: ['teaching', 'list'],
  queryFn: () => ok(api.GET('/api/v1/teaching')),
})
const current = computed(() => list.data.value?.items.filter((s) => s.current) ?? [])
const ended = computed(() => list.data.value?.items.filter((s) => !s.current) ?? [])
const editing = ref<Owned>()
const order = useMutation({
  mutationFn: (sections: string[]) => ok(api.PUT('/api/v1/teaching/order', { body: { sections } })),
  onSettled: () => queries.invalidateQueries({ queryKey: ['teaching'] }),
})
function move(at: number, by: number) {
  const ids = current.value.map((s) => s.own)
  const [id] = ids.splice(at, 1)
  ids.splice(at + by, 0, id!)
  order.mutate(ids)
}
const name = (s: Owned) => s.shortName || s.title
</script>

<template>
  <PageHead :title="$t('teaching.mySections')" :about="$t('teaching.mySectionsAbout')" />
  <Oops :error="list.error.value ?? order.error.value" :again="list.refetch" />
  <p v-if="list.isSuccess.value && !current.length" class="sheet empty faint">
    {{ $t('teaching.youTeachNothing') }}
  </p>
  <OwnSection v-for="(s, i) in current" :key="s.own" :section="s">
    <Button
      size="small"
      variant="text"
      :label="$t('teaching.up')"
      :aria-label="$t('teaching.upNamed', { name: name(s) })"
      :disabled="i === 0 || order.isPending.value"
      @click="move(i, -1)"
    />
    <Button
      size="small"
      variant="text"
      :label="$t('teaching.down')"
      :aria-label="$t('teaching.downNamed', { name: name(s) })"
      :disabled="i === current.length - 1 || order.isPending.value"
      @click="move(i, 1)"
    />
    <Button
      size="small"
      variant="text"
      :label="$t('teaching.nameAndPicture')"
      :aria-label="$t('teaching.nameAndPictureOf', { name: name(s) })"
      @click="editing = s"
    />
  </OwnSection>
  <Fold v-if="ended.length" :title="$t('teaching.ended', { n: ended.length }, ended.length)">
    <OwnSection v-for="s in ended" :key="s.own" :section="s" />
  </Fold>
  <OwnForm v-if="editing" :section="editing" @close="editing = undefined" />
</template>

<style scoped>
.empty {
  padding: 1.4rem;
}
</style>
