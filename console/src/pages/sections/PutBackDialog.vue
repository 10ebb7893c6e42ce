<script setup lang="ts">
import { useMutation, useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import Frame from '../../parts/form/Frame.vue'
import Oops from '../../parts/Oops.vue'
import { when } from '../../parts/when'

/** Puts results of a safety copy back that are no longer there. */
const props = defineProps<{ copy: Schemas['CopyRef'] }>()
const emit = defineEmits<{ close: [] }>()
const path = { params: { path: { id: props.copy.id } } }
const outlook = useQuery({
  queryKey: ['sets', 'copy', props.copy.id],
  queryFn: () => ok(api.GET('/api/v1/safety-copies/{id}/outlook', path)),
  staleTime: 0,
})
const back = useMutation({
  mutationFn: () => ok(api.POST('/api/v1/safety-copies/{id}/put-back', path)),
})
const shown = computed(() => back.data.value ?? outlook.data.value)
</script>

<template>
  <Frame
    :of="back"
    :title="$t('sections.copyOf', { createdAt: when(copy.createdAt) })"
    width="40rem"
    @close="emit('close')"
  >
    <p class="faint">{{ $t('sections.whoIsInSectionComes') }}</p>
    <p v-if="outlook.isLoading.value" class="faint" aria-busy="true">
      {{ $t('sections.comparingWithWhatIsThere') }}
    </p>
    <template v-if="shown">
      <p role="status">
        <i18n-t keypath="sections.resultsAreThereAndStay" scope="global"
          ><template #data>{{
            back.data.value ? $t('sections.putBackLabel') : $t('sections.missing')
          }}</template
          ><template #back>{{ shown.back.length }}</template
          ><template #there>{{ shown.there }}</template
          ><template #more
            ><template v-if="shown.gone">{{
              $t('sections.areOfPeopleOrSections', { gone: shown.gone })
            }}</template></template
          ></i18n-t
        >
      </p>
      <ul v-if="shown.back.length" class="results">
        <li v-for="r in shown.back" :key="r.code + r.identifier + r.activityId">
          {{ r.person }} <span class="faint">{{ r.code }} · {{ r.activityId }}</span>
        </li>
      </ul>
    </template>
    <Oops :error="back.error.value ?? outlook.error.value" />
    <div class="actions">
      <Button
        v-if="!back.data.value"
        :label="$t('sections.putBack', { back: outlook.data.value?.back.length ?? 0 })"
        :disabled="!outlook.data.value?.back.length"
        :loading="back.isPending.value"
        @click="back.mutate()"
      />
      <Button variant="text" :label="$t('common.close')" @click="emit('close')" />
    </div>
  </Frame>
</template>

<style scoped>
.results {
  max-height: 16rem;
  overflow-y: auto;
  padding-inline-start: 1.2rem;
}
</style>
