<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed } from 'vue'

import { api, ok } from '../../api/client'
import { useDraft } from '../../parts/draft'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import TextField from '../../parts/form/TextField.vue'
import { useUnsaved } from '../../parts/form/typed'
import Oops from '../../parts/Oops.vue'

/** What the verbs of course platforms mean: the institution's own go before the usual ones. */
const queries = useQueryClient()
const verbs = useQuery({
  queryKey: ['verbs'],
  queryFn: () => ok(api.GET('/api/v1/verbs')),
  structuralSharing: false,
})
const edited = useDraft(computed(() => verbs.data.value))
const own = computed(() => edited.draft.value?.own ?? [])
useUnsaved(() => edited.changed.value)
const save = useMutation({
  mutationFn: () =>
    ok(
      api.PUT('/api/v1/verbs', {
        params: { header: edited.header.value },
        body: { own: own.value.map((v) => ({ ...v, type: v.type?.trim() || undefined })) },
      }),
    ),
  onSuccess: () => {
    edited.kept()
    return queries.invalidateQueries({ queryKey: ['verbs'] })
  },
})
const meanings = ['touched', 'completed', 'passed', 'failed', 'scored', 'submitted'] as const
const options = meanings.map((m) => ({ value: m, label: m }))
</script>

<template>
  <Oops :error="verbs.error.value" :again="verbs.refetch" />
  <div v-if="verbs.data.value">
    <form class="own" @submit.prevent="save.mutate()">
      <div v-for="(v, i) in own" :key="i" class="line">
        <TextField
          v-model="v.verb"
          code
          hidden
          :label="$t('outlines.verb', { i: i + 1 })"
          :placeholder="$t('outlines.addressOfVerb')"
        />
        <TextField
          v-model="v.type"
          code
          hidden
          :label="$t('outlines.typeOfActivityForVerb', { i: i + 1 })"
          :placeholder="$t('outlines.anyTypeOfActivity')"
        />
        <ChoiceField
          v-model="v.says"
          hidden
          :label="$t('outlines.verbSays', { i: i + 1 })"
          :options="options"
        />
        <Button
          type="button"
          size="small"
          variant="text"
          :label="$t('common.remove')"
          @click="own.splice(i, 1)"
        />
      </div>
      <Oops :error="save.error.value" :over="(tag) => (edited.over(tag), save.mutate())" />
      <div class="actions">
        <Button
          type="button"
          size="small"
          variant="outlined"
          :label="$t('outlines.addVerb')"
          @click="own.push({ verb: '', says: 'completed' })"
        />
        <Button
          type="submit"
          size="small"
          :label="$t('outlines.saveVerbs')"
          :disabled="!edited.changed.value"
          :loading="save.isPending.value"
        />
      </div>
    </form>
    <p class="faint">{{ $t('outlines.whereNoneOfYourOwn') }}</p>
    <ul>
      <li v-for="v in verbs.data.value.default" :key="v.verb + v.type">
        <code>{{ v.verb }}</code>
        <span v-if="v.type" class="faint">{{ $t('outlines.of', { type: v.type }) }}</span> {{ v.says }}
      </li>
    </ul>
  </div>
</template>

<style scoped>
.line {
  display: grid;
  grid-template-columns: minmax(0, 2fr) minmax(0, 2fr) 9rem auto;
  gap: 0.5rem;
  align-items: center;
  margin-bottom: 0.4rem;
}

ul {
  list-style: none;
  margin: 0;
  padding: 0;
  font-size: 12.5px;
}

li {
  overflow-wrap: anywhere;
}

@media (max-width: 760px) {
  .line {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
