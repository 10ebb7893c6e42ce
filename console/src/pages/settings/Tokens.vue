<script setup lang="ts">
import { useMutation } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { ref } from 'vue'

import { api, ok } from '../../api/client'
import TextField from '../../parts/form/TextField.vue'
import Oops from '../../parts/Oops.vue'

/** Makes a token for a program that calls the API in one's own name. */
const name = ref('')
const make = useMutation({
  mutationFn: () => ok(api.POST('/api/v1/tokens', { body: { name: name.value.trim() } })),
  onSuccess: () => (name.value = ''),
})
</script>

<template>
  <h2>{{ $t('settings.tokens') }}</h2>
  <p class="faint">{{ $t('settings.programThatCallsApiShows') }}</p>
  <form @submit.prevent="make.mutate()">
    <TextField
      v-model="name"
      :placeholder="$t('settings.whatItIsFor')"
      hidden
      :label="$t('settings.whatTokenIsFor')"
    />
    <Button
      type="submit"
      size="small"
      variant="outlined"
      :label="$t('settings.makeToken')"
      :disabled="!name.trim()"
      :loading="make.isPending.value"
    />
  </form>
  <p v-if="make.data.value" class="sheet made" role="status">
    {{ $t('settings.copyItNowItIs') }} <code>{{ make.data.value.token }}</code>
  </p>
  <Oops :error="make.error.value" />
</template>

<style scoped>
.made {
  padding: 0.5rem 0.8rem;
  overflow-wrap: anywhere;
}
</style>
