<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import { useDraft } from '../../parts/draft'
import Frame from '../../parts/form/Frame.vue'
import TextField from '../../parts/form/TextField.vue'
import TickField from '../../parts/form/TickField.vue'
import Oops from '../../parts/Oops.vue'

/** Changes which sections lists hide. */
const emit = defineEmits<{ close: [] }>()
const queries = useQueryClient()
const kept = useQuery({
  queryKey: ['hidden'],
  queryFn: () => ok(api.GET('/api/v1/sections/hidden')),
  structuralSharing: false,
})
const edited = useDraft<Schemas['SectionRule'][]>(kept.data)
const rules = computed(() => edited.draft.value ?? [])
const save = useMutation({
  mutationFn: () =>
    ok(api.PUT('/api/v1/sections/hidden', { params: { header: edited.header.value }, body: rules.value })),
  onSuccess: async () => {
    await Promise.all(
      ['hidden', 'sections', 'board'].map((k) => queries.invalidateQueries({ queryKey: [k] })),
    )
    emit('close')
  },
})
</script>

<template>
  <Frame :of="save" :title="$t('sections.hiddenInLists')" width="52rem" @close="emit('close')">
    <p>{{ $t('sections.ruleHidesWhateverFulfilsAll') }}</p>
    <form @submit.prevent="save.mutate()">
      <div v-for="(r, i) in rules" :key="i" class="rule">
        <TextField
          :id="`name-${i}`"
          v-model="r.name"
          :placeholder="$t('common.name')"
          hidden
          :label="$t('common.nameOfRule')"
        />
        <TextField
          v-model="r.courseCode"
          :placeholder="$t('sections.courseCodeEGLab')"
          hidden
          :label="$t('sections.patternOnCourseCode')"
        />
        <TextField
          v-model="r.title"
          :placeholder="$t('sections.titleEGDraft')"
          hidden
          :label="$t('sections.patternOnTitle')"
        />
        <TextField
          :id="`type-${i}`"
          v-model="r.classType"
          :placeholder="$t('sections.classType')"
          hidden
          :label="$t('sections.classTypeLabel')"
        />
        <TickField v-model="r.empty" :label="$t('sections.empty')" />
        <TickField v-model="r.otherTerms" :label="$t('sections.otherTerms')" />
        <Button size="small" variant="text" :label="$t('common.drop')" @click="rules.splice(i, 1)" />
      </div>
      <Oops
        :error="kept.error.value ?? save.error.value"
        :over="(tag) => (edited.over(tag), save.mutate())"
      />
      <div class="actions">
        <Button
          type="button"
          size="small"
          variant="outlined"
          :label="$t('sections.addRule')"
          @click="rules.push({ name: '' })"
        />
        <Button type="submit" size="small" :label="$t('common.save')" :loading="save.isPending.value" />
      </div>
    </form>
  </Frame>
</template>

<style scoped>
.rule {
  display: grid;
  grid-template-columns: repeat(4, 1fr) auto auto auto;
  gap: 0.5rem;
  align-items: center;
  margin-bottom: 0.4rem;
}

.rule :deep(input:not([type='checkbox'])) {
  min-width: 0;
}

label {
  white-space: nowrap;
}
</style>
