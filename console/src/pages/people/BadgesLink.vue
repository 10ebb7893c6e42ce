<script setup lang="ts">
import { useMutation } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed } from 'vue'

import { api, ok } from '../../api/client'
import Oops from '../../parts/Oops.vue'

/** A link to the page of somebody's badges, which is theirs. */
const props = defineProps<{ person: string }>()
const make = useMutation({
  mutationFn: () =>
    ok(api.POST('/api/v1/people/{id}/badges-page', { params: { path: { id: props.person } } })),
})
const sending = computed(() => make.isPending.value)
const address = computed(() => make.data.value?.address)
const problem = computed(() => make.error.value)
</script>

<template>
  <p v-if="address" class="link">
    <code>{{ address }}</code>
    <small class="faint">{{ $t('people.badgesPageHolds') }}</small>
  </p>
  <Button
    v-else
    size="small"
    variant="outlined"
    :label="$t('people.makeBadgesPage')"
    :loading="sending"
    @click="make.mutate()"
  />
  <Oops :error="problem" />
</template>

<style scoped>
.link code {
  display: block;
  overflow-wrap: anywhere;
  user-select: all;
}
</style>
