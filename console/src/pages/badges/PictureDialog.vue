<script setup lang="ts">
import { useMutation, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import FileField from '../../parts/form/FileField.vue'
import Frame from '../../parts/form/Frame.vue'
import Oops from '../../parts/Oops.vue'

/** Gives a badge a picture of its own, or the one that all have. */
const props = defineProps<{ badge: Schemas['Badge'] }>()
const emit = defineEmits<{ close: [] }>()
const queries = useQueryClient()
const shown = ref(new URL(props.badge.picture).pathname)
const own = ref(!!props.badge.ownPicture)
const path = { id: props.badge.id }
const save = useMutation({
  mutationFn: async (file: File | undefined) => {
    if (!file) {
      await ok(api.DELETE('/api/v1/badges/{id}/picture', { params: { path } }))
      return undefined
    }
    return ok(
      api.PUT('/api/v1/badges/{id}/picture', {
        params: { path },
        body: file as unknown as string,
        bodySerializer: (body: unknown) => body as File,
        headers: { 'Content-Type': 'application/octet-stream' },
      }),
    )
  },
  onSuccess: (saved) => {
    own.value = !!saved
    shown.value = saved ? new URL(saved.picture).pathname : '/open/pictures/emblem'
    return queries.invalidateQueries({ queryKey: ['badges'] })
  },
})
const problem = computed(() => save.error.value)
</script>

<template>
  <Frame
    :of="save"
    :title="$t('badges.pictureOf', { name: badge.name })"
    width="30rem"
    typed=""
    @close="emit('close')"
  >
    <p><img :src="shown" :alt="$t('badges.pictureOf', { name: badge.name })" class="large" /></p>
    <FileField
      :label="$t('badges.newPicture')"
      accept=".png,.svg"
      :help="$t('badges.pictureBounds')"
      @choose="([file]) => file && save.mutate(file)"
    />
    <p class="faint">{{ $t('badges.awardsKeepPictures') }}</p>
    <Oops :error="problem" />
    <div class="actions">
      <Button type="button" :label="$t('common.close')" @click="emit('close')" />
      <Button
        v-if="own"
        type="button"
        variant="text"
        :label="$t('badges.pictureOfAll')"
        @click="save.mutate(undefined)"
      />
    </div>
  </Frame>
</template>

<style scoped>
.large {
  width: 9rem;
  height: 9rem;
  object-fit: contain;
}
</style>
