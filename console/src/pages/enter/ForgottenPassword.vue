<script setup lang="ts">
import { useMutation } from '@tanstack/vue-query'
import Button from 'primevue/button'

import { api, ok } from '../../api/client'
import Oops from '../../parts/Oops.vue'
import Door from './Door.vue'
import EmailField from './EmailField.vue'

/** Asks for a link by which a new password is chosen. What it says does not tell who signs in here. */
defineProps<{ mails: boolean }>()
const emit = defineEmits<{ back: [] }>()
const email = defineModel<string>({ required: true })
const reset = useMutation({
  mutationFn: () => ok(api.POST('/api/v1/session/reset', { body: { email: email.value } })),
})
</script>

<template>
  <Door :title="$t('enter.newPassword')" :about="$t('enter.newPasswordAbout')">
    <p v-if="!mails" role="status">{{ $t('enter.noMails') }}</p>
    <p v-else-if="reset.isSuccess.value" role="status">{{ $t('enter.linkOnItsWay', { email }) }}</p>
    <form v-else @submit.prevent="reset.mutate()">
      <EmailField v-model="email" />
      <Oops :error="reset.error.value" />
      <Button type="submit" :label="$t('enter.mailMeALink')" :loading="reset.isPending.value" />
    </form>
    <p><Button variant="text" :label="$t('enter.backToSignIn')" @click="emit('back')" /></p>
  </Door>
</template>
