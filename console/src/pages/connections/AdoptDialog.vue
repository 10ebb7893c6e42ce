<script setup lang="ts">
import { useMutation } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, ok, type Schemas } from '../../api/client'
import Frame from '../../parts/form/Frame.vue'
import { letGo } from '../../parts/form/typed'
import OneSection from '../../parts/OneSection.vue'
import Oops from '../../parts/Oops.vue'

/** Pairs a class that is at a service already with a section. */
const props = defineProps<{ service: string; found: Schemas['UnpairedClass'] }>()
const emit = defineEmits<{ close: [] }>()
const router = useRouter()
// What is as likely as another is not chosen for anybody.
const first = props.found.guesses[0]
const section = ref(first && !props.found.tied && !first.paired ? first.section.id : '')
const pair = useMutation({
  mutationFn: () =>
    ok(
      api.POST('/api/v1/pairings', {
        body: { sectionId: section.value, interfaceId: props.service, targetRef: props.found.ref },
      }),
    ),
  onSuccess: (p) => {
    letGo()
    return router.push(`/pairings/${p.id}`)
  },
})
</script>

<template>
  <Frame
    :of="pair"
    :title="$t('connections.adopt', { name: found.name })"
    width="36rem"
    @close="emit('close')"
  >
    <p class="faint">{{ $t('connections.classBecomesSectionsNobodyIs') }}</p>
    <form @submit.prevent="pair.mutate()">
      <div class="field">
        <label for="adopt-section">{{ $t('common.section') }}</label>
        <OneSection v-model="section" input-id="adopt-section" :label="$t('common.section')" />
      </div>
      <Oops :error="pair.error.value" />
      <div class="actions">
        <Button
          type="submit"
          :label="$t('connections.adoptItForThisSection')"
          :disabled="!section"
          :loading="pair.isPending.value"
        />
        <Button type="button" variant="text" :label="$t('common.cancel')" @click="emit('close')" />
      </div>
    </form>
  </Frame>
</template>
