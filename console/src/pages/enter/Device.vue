<script setup lang="ts">
import { useMutation } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { onMounted, ref } from 'vue'
import { useRoute } from 'vue-router'

import { api, ok } from '../../api/client'
import { provideForm } from '../../parts/form/form'
import TextField from '../../parts/form/TextField.vue'
import Oops from '../../parts/Oops.vue'
import { when } from '../../parts/when'
import Door from './Door.vue'

/** A program asks to be let in, and shows a code (RFC 8628). */
const route = useRoute()
const code = ref(String(route.query.code ?? ''))
const find = useMutation({
  mutationFn: () =>
    ok(api.GET('/api/v1/session/devices/{code}', { params: { path: { code: code.value.trim() } } })),
})
const answer = useMutation({
  mutationFn: (allow: boolean) =>
    ok(
      api.PUT('/api/v1/session/devices/{code}', {
        params: { path: { code: find.data.value!.code } },
        body: { allow },
      }),
    ),
})
provideForm(
  () => find.error.value,
  () => find.isPending.value,
)
onMounted(() => code.value && find.mutate())
</script>

<template>
  <Door :title="$t('enter.letProgramIn')">
    <p v-if="answer.isSuccess.value" role="status">
      {{ answer.variables.value ? $t('enter.programIsIn') : $t('enter.programIsOut') }}
    </p>
    <template v-else-if="find.data.value">
      <p>
        {{
          $t('enter.programAsks', {
            name: find.data.value.name,
            address: find.data.value.address,
            at: when(find.data.value.askedAt),
          })
        }}
      </p>
      <p class="shown">
        <code>{{ find.data.value.code }}</code>
      </p>
      <p>{{ $t('enter.programMay', { days: find.data.value.days }) }}</p>
      <Oops :error="answer.error.value" />
      <p class="row">
        <Button :label="$t('enter.letIn')" :loading="answer.isPending.value" @click="answer.mutate(true)" />
        <Button variant="outlined" :label="$t('enter.refuse')" @click="answer.mutate(false)" />
      </p>
    </template>
    <form v-else @submit.prevent="find.mutate()">
      <TextField id="code" v-model="code" required :label="$t('enter.codeOfProgram')" />
      <Oops :error="find.error.value" />
      <Button type="submit" :label="$t('enter.goOn')" :loading="find.isPending.value" />
    </form>
  </Door>
</template>

<style scoped>
.shown code {
  font-size: 1.4rem;
}

.row {
  display: flex;
  gap: 0.6rem;
}
</style>
