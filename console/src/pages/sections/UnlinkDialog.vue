<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import RadioButton from 'primevue/radiobutton'
import { ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import { refresh } from '../../api/live'
import Effects from '../../parts/Effects.vue'
import Frame from '../../parts/form/Frame.vue'
import Oops from '../../parts/Oops.vue'

/** Unlinks a set and says what becomes of its class, and of everybody in it. */
const props = defineProps<{ set: Schemas['LinkedSet'] }>()
const emit = defineEmits<{ close: [] }>()
const queries = useQueryClient()
const target = ref<'lead' | 'end'>('lead')
const effects = useQuery({
  queryKey: ['sets', 'unlinking', props.set.id, target],
  queryFn: () =>
    ok(
      api.GET('/api/v1/linked-sets/{id}/unlinking', {
        params: { path: { id: props.set.id }, query: { target: target.value } },
      }),
    ),
  enabled: props.set.targets.length > 0,
})
const unlink = useMutation({
  mutationFn: () =>
    ok(
      api.POST('/api/v1/linked-sets/{id}/unlink', {
        params: { path: { id: props.set.id }, header: { 'If-Match': `"${props.set.version}"` } },
        body: { target: props.set.targets.length ? target.value : '' },
      }),
    ),
  onSuccess: async () => {
    await refresh(queries, 'section', 'pairing')
    emit('close')
  },
})
</script>

<template>
  <Frame
    :of="unlink"
    :title="$t('sections.unlinkName', { name: set.name })"
    width="44rem"
    @close="emit('close')"
  >
    <p>{{ $t('sections.areHandledOneByOne', { sections: set.sections.map((s) => s.title).join(', ') }) }}</p>
    <template v-if="set.targets.length">
      <label class="choice">
        <RadioButton v-model="target" value="lead" />
        {{
          $t('sections.staysSPeopleOfOthers', {
            targets: set.targets.map((t) => t.target).join(', '),
            title: set.sections[0]?.title,
          })
        }}
      </label>
      <label class="choice">
        <RadioButton v-model="target" value="end" />
        {{
          $t('sections.everybodyStaysInAndNothing', { targets: set.targets.map((t) => t.target).join(', ') })
        }}
      </label>
      <Effects :classes="effects.data.value" :loading="effects.isLoading.value" />
    </template>
    <Oops :error="unlink.error.value ?? effects.error.value" />
    <div class="actions">
      <Button
        :label="$t('sections.unlinkLabel')"
        :loading="unlink.isPending.value"
        @click="unlink.mutate()"
      />
      <Button variant="text" :label="$t('common.cancel')" @click="emit('close')" />
    </div>
  </Frame>
</template>

<style scoped>
.choice {
  display: flex;
  gap: 0.6rem;
  padding: 0.3rem 0;
}
</style>
