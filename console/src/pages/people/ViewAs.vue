<script setup lang="ts">
import { useMutation } from '@tanstack/vue-query'
import Button from 'primevue/button'

import Oops from '../../parts/Oops.vue'
import { mayAll } from '../../shell/may'
import { lookAs } from '../../shell/seen'

/** Looks at Kanban as somebody does: they see what the register lets them see, and change nothing. */
const props = defineProps<{ person: { id: string; name: string } }>()
const look = useMutation({ mutationFn: () => lookAs(props.person.id) })
</script>

<template>
  <Button
    v-if="mayAll('view-as')"
    size="small"
    variant="outlined"
    :label="$t('people.viewAs')"
    :title="$t('people.viewAsAbout', { name: person.name })"
    :loading="look.isPending.value"
    @click="look.mutate()"
  />
  <Oops :error="look.error.value" />
</template>
