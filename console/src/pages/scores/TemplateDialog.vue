<script setup lang="ts">
import { useMutation, useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, ref } from 'vue'

import { api, every, ok, type Schemas } from '../../api/client'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import FormDialog from '../../parts/form/FormDialog.vue'
import NumberField from '../../parts/form/NumberField.vue'
import TextField from '../../parts/form/TextField.vue'
import TickField from '../../parts/form/TickField.vue'
import { letGo } from '../../parts/form/typed'
import { $t } from '../../texts'
import PolicyFields from './PolicyFields.vue'

/** One template: what score links begin with, and what is expected of both gradebooks. */
const props = defineProps<{
  list: Schemas['ScoreTemplate'][]
  /** The place in the list of the one that is changed; a new one without. */
  at?: number
  /** With what score links begin without any template. */
  usual: Schemas['ScorePolicy']
  header: { 'If-Match'?: string }
}>()
const emit = defineEmits<{ close: []; done: [] }>()
const had = props.at === undefined ? undefined : props.list[props.at]
const template = ref<Schemas['ScoreTemplate']>(
  had
    ? (JSON.parse(JSON.stringify(had)) as Schemas['ScoreTemplate'])
    : { name: '', policy: JSON.parse(JSON.stringify(props.usual)) as Schemas['ScorePolicy'] },
)
const categories = ref(had?.expected?.categories?.map((c) => ({ ...c })) ?? [])
const scale = ref(Object.entries(had?.expected?.scale ?? {}).map(([word, value]) => ({ word, value })))
const orgs = useQuery({
  queryKey: ['organisations'],
  queryFn: () =>
    every((cursor) => ok(api.GET('/api/v1/organisations', { params: { query: { cursor, limit: 1000 } } }))),
})
const options = computed(() =>
  (orgs.data.value ?? []).map((o) => ({ value: o.id, label: o.name, apart: o.type })),
)
const save = useMutation({
  mutationFn: () => {
    const one: Schemas['ScoreTemplate'] = {
      ...template.value,
      organisation: undefined,
      organisationId: template.value.organisationId || undefined,
      expected: {
        ...template.value.expected,
        categories: categories.value.filter((c) => c.title.trim()),
        scale: Object.fromEntries(
          scale.value.filter((w) => w.word.trim()).map((w) => [w.word.trim(), w.value.trim()]),
        ),
      },
    }
    const list = props.list.map((t) => ({ ...t, organisation: undefined }))
    if (props.at === undefined) list.push({ ...one, organisation: undefined })
    else list[props.at] = { ...one, organisation: undefined }
    return ok(api.PUT('/api/v1/score-templates', { params: { header: props.header }, body: list }))
  },
  onSuccess: () => {
    emit('done')
    letGo()
  },
})
</script>

<template>
  <FormDialog
    :title="had ? $t('scores.changeTemplate', { name: had.name }) : $t('scores.newTemplate')"
    :submit="$t('common.save')"
    width="58rem"
    :sending="save.isPending.value"
    :unready="!template.name.trim()"
    :error="save.error.value ?? orgs.error.value"
    :typed="{ template, categories, scale }"
    @submit="save.mutate()"
    @close="emit('close')"
  >
    <div class="two">
      <TextField v-model="template.name" :label="$t('common.name')" />
      <ChoiceField
        id="score-template-organisation"
        v-model="template.organisationId"
        clear
        :label="$t('scores.ofOrganisation')"
        :help="$t('scores.ofOrganisationHelp')"
        :placeholder="$t('scores.byNameOnly')"
        :options="options"
      />
    </div>
    <PolicyFields v-model="template.policy" />
    <TickField v-model="template.policy.makesCategories" :label="$t('scores.makeCategories')" />
    <div class="two">
      <fieldset>
        <legend>{{ $t('scores.expectedCategories') }}</legend>
        <div v-for="(c, no) in categories" :key="no" class="row">
          <TextField v-model="c.title" hidden :label="$t('scores.categoryNo', { n: no + 1 })" />
          <NumberField
            v-model="c.weight"
            hidden
            :min="0"
            :max="100"
            :digits="2"
            :placeholder="$t('scores.anyWeight')"
            :label="$t('scores.weightNo', { n: no + 1 })"
          />
          <Button
            type="button"
            size="small"
            variant="text"
            icon="pi pi-times"
            :aria-label="$t('scores.dropNo', { n: no + 1 })"
            @click="categories.splice(no, 1)"
          />
        </div>
        <Button
          type="button"
          size="small"
          variant="outlined"
          :label="$t('scores.addCategory')"
          @click="categories.push({ title: '' })"
        />
      </fieldset>
      <fieldset>
        <legend>{{ $t('scores.expectedWords') }}</legend>
        <div v-for="(w, no) in scale" :key="no" class="row">
          <TextField v-model="w.word" hidden :label="$t('scores.wordNo', { n: no + 1 })" />
          <TextField
            v-model="w.value"
            hidden
            placeholder="80-89"
            :label="$t('scores.worthNo', { n: no + 1 })"
          />
          <Button
            type="button"
            size="small"
            variant="text"
            icon="pi pi-times"
            :aria-label="$t('scores.dropNo', { n: no + 1 })"
            @click="scale.splice(no, 1)"
          />
        </div>
        <Button
          type="button"
          size="small"
          variant="outlined"
          :label="$t('scores.addWord')"
          @click="scale.push({ word: '', value: '' })"
        />
      </fieldset>
    </div>
  </FormDialog>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 0 2rem;
}

fieldset {
  border: 0;
  padding: 0;
  margin: 0.8rem 0 0;
  min-width: 0;
}

legend {
  font-weight: 600;
  margin-bottom: 0.3rem;
}

.row {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 7rem 2rem;
  gap: 0.4rem;
  align-items: start;
  margin-bottom: 0.3rem;
}
</style>
