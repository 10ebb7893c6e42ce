<script setup lang="ts">
import { useMutation } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import { people } from '../../parts/find'
import Finder from '../../parts/Finder.vue'
import Frame from '../../parts/form/Frame.vue'
import Oops from '../../parts/Oops.vue'

/** Says whose scores they are that the source has of somebody whom nobody knows. */
const props = defineProps<{ link: Schemas['ScoreLink']; student: string }>()
const emit = defineEmits<{ close: []; done: [] }>()
const person = ref('')
const give = useMutation({
  mutationFn: () =>
    ok(
      api.POST('/api/v1/score-links/{id}/owners', {
        params: { path: { id: props.link.id } },
        body: { student: props.student, personId: person.value },
      }),
    ),
  onSuccess: () => emit('done'),
})
const problem = computed(() => give.error.value)
const sending = computed(() => give.isPending.value)
</script>

<template>
  <Frame :of="give" :title="$t('scores.whoseTitle', { student })" width="32rem" @close="emit('close')">
    <form @submit.prevent="give.mutate()">
      <p>{{ $t('scores.whoseAbout', { student, source: link.source }) }}</p>
      <div class="field">
        <label>{{ $t('common.person') }}</label>
        <Finder v-model="person" :label="$t('sections.nameAddressOrIdentifier')" :search="people" />
      </div>
      <Oops :error="problem" />
      <div class="actions">
        <Button type="submit" :label="$t('scores.whoseGive')" :disabled="!person" :loading="sending" />
        <Button type="button" variant="text" :label="$t('common.cancel')" @click="emit('close')" />
      </div>
    </form>
  </Frame>
</template>
