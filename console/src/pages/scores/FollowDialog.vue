<script setup lang="ts">
import { useMutation } from '@tanstack/vue-query'
import { ref, toRef } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import FormDialog from '../../parts/form/FormDialog.vue'
import TickField from '../../parts/form/TickField.vue'
import { letGo } from '../../parts/form/typed'
import { useClasses } from './gradebooks'

/** Asks in which class of the source work is marked in the next term. */
const props = defineProps<{ next: Schemas['FollowingScoreLink'] }>()
const emit = defineEmits<{ close: []; done: [Schemas['ScoreLink']] }>()
const sourceClass = ref<string>()
const anyway = ref(false)
const { classes, choices } = useClasses(toRef(() => props.next.sourceInterfaceId))
const follow = useMutation({
  mutationFn: () =>
    ok(
      api.POST('/api/v1/score-links/{id}/follow', {
        params: { path: { id: props.next.linkId } },
        body: { sourceClass: sourceClass.value, anyway: anyway.value },
      }),
    ),
  onSuccess: (l) => {
    letGo()
    emit('done', l)
  },
})
</script>

<template>
  <FormDialog
    :title="$t('scores.copyLinkOf', { title: next.title })"
    :submit="$t('scores.copyLink')"
    :sending="follow.isPending.value"
    :unready="!sourceClass"
    :error="follow.error.value ?? classes.error.value"
    :typed="{ sourceClass, anyway }"
    @submit="follow.mutate()"
    @close="emit('close')"
  >
    <p>{{ $t('scores.copyLinkAbout', { source: next.source }) }}</p>
    <ChoiceField
      v-model="sourceClass"
      name="sourceClass"
      :label="$t('scores.classThere')"
      :options="choices"
      :none="$t('scores.noClasses')"
    />
    <TickField v-model="anyway" :label="$t('scores.rightAllSame')" />
  </FormDialog>
</template>
