<script setup lang="ts">
import { useMutation, useQueryClient } from '@tanstack/vue-query'
import { ref } from 'vue'

import { api, ifMatch, ok, type Schemas } from '../../api/client'
import { refresh } from '../../api/live'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import FormDialog from '../../parts/form/FormDialog.vue'
import { letGo } from '../../parts/form/typed'
import { useClasses, useGradebooks } from './gradebooks'

/** Points a score link to another class where work is marked, or to another book of record. */
const props = defineProps<{ link: Schemas['ScoreLink'] }>()
const emit = defineEmits<{ close: [] }>()
const queries = useQueryClient()
const source = ref<string | undefined>(props.link.sourceInterfaceId)
const sourceClass = ref<string | undefined>(props.link.sourceClass)
const book = ref<string | undefined>(props.link.bookInterfaceId)
const { interfaces, choices: gradebooks } = useGradebooks()
const { classes, choices: classChoices } = useClasses(source)
const changed = (now: string | undefined, was: string) => (now && now !== was ? now : undefined)
const save = useMutation({
  mutationFn: () =>
    ok(
      api.PATCH('/api/v1/score-links/{id}', {
        params: { path: { id: props.link.id }, header: ifMatch(props.link.version) },
        body: {
          sourceInterfaceId: changed(source.value, props.link.sourceInterfaceId),
          sourceClass: changed(sourceClass.value, props.link.sourceClass),
          bookInterfaceId: changed(book.value, props.link.bookInterfaceId),
        },
      }),
    ),
  onSuccess: async () => {
    letGo()
    await refresh(queries, 'scoreLink')
    emit('close')
  },
})
</script>

<template>
  <FormDialog
    :title="$t('scores.pointElsewhere')"
    :submit="$t('common.save')"
    :sending="save.isPending.value"
    :unready="!source || !sourceClass || !book"
    :error="save.error.value ?? interfaces.error.value ?? classes.error.value"
    :typed="{ source, sourceClass, book }"
    @submit="save.mutate()"
    @close="emit('close')"
  >
    <p class="faint">{{ $t('scores.pointAbout') }}</p>
    <ChoiceField
      id="point-source"
      v-model="source"
      name="sourceInterfaceId"
      :label="$t('scores.whereMarked')"
      :options="gradebooks"
      @update:model-value="sourceClass = undefined"
    />
    <ChoiceField
      id="point-class"
      v-model="sourceClass"
      name="sourceClass"
      :label="$t('scores.classThere')"
      :options="classChoices"
      :none="$t('scores.noClasses')"
    />
    <ChoiceField
      id="point-book"
      v-model="book"
      name="bookInterfaceId"
      :label="$t('scores.bookOfRecord')"
      :options="gradebooks.filter((g) => g.value !== source)"
    />
  </FormDialog>
</template>
