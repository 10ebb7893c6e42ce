<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import { refresh } from '../../api/live'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import Field from '../../parts/form/Field.vue'
import FormDialog from '../../parts/form/FormDialog.vue'
import TickField from '../../parts/form/TickField.vue'
import { letGo } from '../../parts/form/typed'
import Oops from '../../parts/Oops.vue'
import OneSection from '../../parts/OneSection.vue'
import { $t } from '../../texts'
import FileSide from './FileSide.vue'
import { useClasses, useGradebooks } from './gradebooks'
import Overlap from './Overlap.vue'

/** Makes a score link of a section, or of the linked set that it is in. */
const emit = defineEmits<{ close: []; made: [Schemas['ScoreLink']] }>()
const queries = useQueryClient()
const section = ref('')
const source = ref<string>()
const sourceClass = ref<string>()
const book = ref<string>()
const makes = ref(true)
const comments = ref(false)
const anyway = ref(false)

const { interfaces, all, choices: gradebooks } = useGradebooks()
const files = computed(() =>
  all.value.filter(
    (x) => x.kind === 'oneroster-gradebook-csv' && (x.id === source.value || x.id === book.value),
  ),
)
const { classes, choices: classChoices } = useClasses(source)
const chosen = useQuery({
  queryKey: ['sections', 'of-score-link', section],
  queryFn: () =>
    ok(api.GET('/api/v1/sections', { params: { query: { called: section.value, limit: 2, hidden: '*' } } })),
  enabled: computed(() => !!section.value),
})
const begin = useQuery({
  queryKey: ['score-templates', 'for', section],
  queryFn: () =>
    ok(api.GET('/api/v1/score-templates/for', { params: { query: { section: section.value } } })),
  enabled: computed(() => !!section.value),
})
watch(begin.data, (now) => {
  if (!now?.found) return
  makes.value = now.policy.makesCategories
  comments.value = now.policy.comments
})
const set = computed(() => chosen.data.value?.items[0]?.set)
const ready = computed(
  () =>
    !!(
      section.value &&
      chosen.data.value &&
      begin.data.value &&
      source.value &&
      sourceClass.value &&
      book.value
    ),
)
const body = computed(() => ({
  sectionId: set.value ? undefined : section.value,
  setId: set.value?.id,
  sourceInterfaceId: source.value ?? '',
  sourceClass: sourceClass.value ?? '',
  bookInterfaceId: book.value ?? '',
  anyway: anyway.value,
  policy: begin.data.value && {
    ...begin.data.value.policy,
    comments: comments.value,
    makesCategories: makes.value,
  },
}))
const overlap = useQuery({
  queryKey: ['score-links', 'overlap', section, set, source, sourceClass, book],
  queryFn: () => ok(api.POST('/api/v1/score-links/overlap', { body: body.value })),
  enabled: ready,
  retry: false,
})
const poor = computed(() => overlap.data.value?.items.some((o) => o.poor))
const make = useMutation({
  mutationFn: () => ok(api.POST('/api/v1/score-links', { body: body.value })),
  onSuccess: async (l) => {
    await refresh(queries, 'scoreLink')
    emit('close')
    letGo()
    emit('made', l)
  },
})
</script>

<template>
  <FormDialog
    :title="$t('scores.makeLink')"
    :submit="$t('scores.make')"
    width="46rem"
    :sending="make.isPending.value"
    :unready="!ready || overlap.isFetching.value || (poor && !anyway)"
    :error="make.error.value"
    :typed="{ section, source, sourceClass, book, makes, comments }"
    @submit="make.mutate()"
    @close="emit('close')"
  >
    <p v-if="interfaces.data.value && gradebooks.length < 2" class="faint">
      {{ $t('scores.twoGradebooksNeeded') }}
      <RouterLink to="/connections">{{ $t('scores.connectGradebooks') }}</RouterLink>
    </p>
    <Field id="score-link-section" :label="$t('common.section')">
      <OneSection v-model="section" input-id="score-link-section" :label="$t('common.section')" />
    </Field>
    <p v-if="set" class="faint">{{ $t('scores.forWholeSet', { name: set.name }) }}</p>
    <p v-if="begin.data.value?.name" class="faint">
      {{ $t('scores.beginsWith', { name: begin.data.value.name }) }}
    </p>
    <div class="two">
      <ChoiceField
        id="score-source"
        v-model="source"
        name="sourceInterfaceId"
        :label="$t('scores.whereMarked')"
        :options="gradebooks"
        :none="$t('scores.noGradebook')"
        @update:model-value="sourceClass = undefined"
      />
      <ChoiceField
        id="score-class"
        v-model="sourceClass"
        name="sourceClass"
        :label="$t('scores.classThere')"
        :disabled="!source"
        :options="classChoices"
        :none="$t('scores.noClasses')"
      />
    </div>
    <ChoiceField
      id="score-book"
      v-model="book"
      name="bookInterfaceId"
      :label="$t('scores.bookOfRecord')"
      :help="$t('scores.bookHelp')"
      :options="gradebooks.filter((g) => g.value !== source)"
      :none="$t('scores.noGradebook')"
    />
    <FileSide v-for="f in files" :id="f.id" :key="f.id" :name="f.name" />
    <TickField v-model="makes" :label="$t('scores.makeCategories')" />
    <TickField v-model="comments" :label="$t('scores.carryComments')" />
    <Oops :error="classes.error.value ?? begin.error.value ?? overlap.error.value" />
    <Overlap v-if="overlap.data.value && ready" :all="overlap.data.value.items" />
    <TickField v-if="poor" v-model="anyway" :label="$t('scores.rightAllSame')" />
  </FormDialog>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 0 1rem;
}
</style>
