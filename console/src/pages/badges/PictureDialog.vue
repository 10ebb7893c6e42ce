<script setup lang="ts">
import { useMutation, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed } from 'vue'

import { api, asItIs, ok, type Schemas } from '../../api/client'
import FileField from '../../parts/form/FileField.vue'
import Frame from '../../parts/form/Frame.vue'
import { here } from '../../parts/address'
import Oops from '../../parts/Oops.vue'

/** Gives a badge a picture of its own, or the one that all have. */
const props = defineProps<{ badge: Schemas['Badge'] }>()
const emit = defineEmits<{ close: []; draw: [] }>()
const queries = useQueryClient()
const params = { path: { id: props.badge.id } }
const save = useMutation({
  mutationFn: (file?: File): Promise<unknown> =>
    file
      ? ok(
          api.PUT('/api/v1/badges/{id}/picture', {
            params,
            ...asItIs(file),
          }),
        )
      : ok(api.DELETE('/api/v1/badges/{id}/picture', { params })),
  onSuccess: () => queries.invalidateQueries({ queryKey: ['badges'] }),
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
    <p>
      <img :src="here(badge.picture)" :alt="$t('badges.pictureOf', { name: badge.name })" class="large" />
    </p>
    <p><Button type="button" :label="$t('badges.draw')" @click="emit('draw')" /></p>
    <FileField
      :label="$t('badges.newPicture')"
      accept=".png,.svg"
      :help="$t('badges.pictureBounds')"
      @choose="([file]) => file && save.mutate(file)"
    />
    <p class="faint">{{ $t('badges.awardsKeepPictures') }}</p>
    <Oops :error="problem" />
    <div class="actions">
      <Button type="button" variant="text" :label="$t('common.close')" @click="emit('close')" />
      <Button
        v-if="badge.ownPicture"
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
