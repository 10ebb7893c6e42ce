<script setup lang="ts">
import { useMutation, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, ref, watch } from 'vue'

import { api, asItIs, ok, type Schemas } from '../../api/client'
import AreaField from '../../parts/form/AreaField.vue'
import FileField from '../../parts/form/FileField.vue'
import Frame from '../../parts/form/Frame.vue'
import TextField from '../../parts/form/TextField.vue'
import Oops from '../../parts/Oops.vue'
import PeoplePick from '../../parts/PeoplePick.vue'
import Awardings from './Awardings.vue'

/** Awards a badge by hand, or from a file: first what would become of everybody is shown, then exactly that is done. */
const props = defineProps<{ badge: Schemas['Badge'] }>()
const emit = defineEmits<{ close: [] }>()
const queries = useQueryClient()
const chosen = ref<{ id: string; name: string }[]>([])
const note = ref('')
const evidence = ref('')
const file = ref<File>()

const awards = useMutation({
  mutationFn: (apply: boolean) =>
    file.value
      ? ok(
          api.POST('/api/v1/awards/upload', {
            params: { query: { badge: props.badge.id, apply } },
            ...asItIs(file.value, 'text/csv'),
          }),
        )
      : ok(
          api.POST('/api/v1/badges/{id}/awards', {
            params: { path: { id: props.badge.id } },
            body: {
              people: chosen.value.map((p) => p.id),
              note: note.value,
              evidence: evidence.value ? [{ address: evidence.value }] : [],
              apply,
            },
          }),
        ),
  onSuccess: (_, applied) => applied && queries.invalidateQueries(),
})
const done = computed(() => awards.isSuccess.value && awards.variables.value)
const rows = computed(() => awards.data.value?.items)
const ready = computed(() => rows.value?.filter((r) => r.outcome === 'to-award').length ?? 0)
const problem = computed(() => awards.error.value)
const sending = computed(() => awards.isPending.value)
// What was shown holds only for what was chosen then.
watch([chosen, note, evidence], () => awards.reset(), { deep: true })
function choose([f]: File[]) {
  file.value = f
  awards.mutate(false)
}
function byHand() {
  file.value = undefined
  awards.reset()
}
</script>

<template>
  <Frame
    :of="awards"
    :title="$t('badges.awardBadge', { name: badge.name })"
    :typed="done ? '' : [chosen, note, evidence]"
    width="44rem"
    @close="emit('close')"
  >
    <form @submit.prevent="awards.mutate(ready > 0)">
      <template v-if="!file && !done">
        <PeoplePick v-model="chosen" />
        <AreaField
          id="note"
          v-model="note"
          name="note"
          :rows="2"
          :label="$t('badges.note')"
          :help="$t('badges.everybodyWhoOpensBadgeCan')"
        />
        <TextField
          id="evidence"
          v-model="evidence"
          name="evidence"
          :label="$t('badges.evidenceAddress')"
          placeholder="https://…"
        />
        <FileField
          :label="$t('badges.orFile')"
          accept=".csv,.txt"
          :help="$t('badges.fileColumns')"
          @choose="choose"
        />
      </template>
      <p v-if="file && !done">
        {{ file.name }}
        <Button size="small" variant="text" :label="$t('badges.byHandInstead')" @click="byHand" />
      </p>
      <Awardings v-if="rows" :rows="rows" />
      <Oops :error="problem" />
      <div class="actions">
        <Button v-if="done" type="button" :label="$t('common.close')" @click="emit('close')" />
        <template v-else>
          <Button
            type="submit"
            :label="rows ? $t('badges.awardThese', { n: ready }, ready) : $t('badges.lookFirst')"
            :disabled="rows ? !ready : !chosen.length && !file"
            :loading="sending"
          />
          <Button type="button" variant="text" :label="$t('common.cancel')" @click="emit('close')" />
        </template>
      </div>
    </form>
  </Frame>
</template>
