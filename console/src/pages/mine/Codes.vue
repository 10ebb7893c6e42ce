<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, reactive, ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import TextField from '../../parts/form/TextField.vue'
import Oops from '../../parts/Oops.vue'
import { when } from '../../parts/when'
import { entered } from '../../router'

/** One-time codes of an app, besides the password. */
const queries = useQueryClient()
const have = useQuery({ queryKey: ['own-codes'], queryFn: () => ok(api.GET('/api/v1/session/codes')) })
const form = reactive({ password: '', code: '' })
const begun = ref<Schemas['NewCodes']>()
const recovery = ref<string[]>()
const again = () => queries.invalidateQueries({ queryKey: ['own-codes'] })
const begin = useMutation({
  mutationFn: () => ok(api.POST('/api/v1/session/codes', { body: { password: form.password } })),
  onSuccess: (made) => {
    begun.value = made
    Object.assign(form, { password: '', code: '' })
  },
})
function made(codes: string[]) {
  begun.value = undefined
  recovery.value = codes
  form.code = ''
  if (have.data.value?.required && !have.data.value.onSince) entered(true) // what needed codes may be done now
  void again()
}
const confirm = useMutation({
  mutationFn: () => ok(api.PUT('/api/v1/session/codes', { body: { code: form.code } })),
  onSuccess: (m) => made(m.codes),
})
const renew = useMutation({
  mutationFn: () => ok(api.POST('/api/v1/session/codes/recovery', { body: { code: form.code } })),
  onSuccess: (m) => made(m.codes),
})
const end = useMutation({
  mutationFn: () => ok(api.POST('/api/v1/session/codes/end', { body: { code: form.code } })),
  onSuccess: () => {
    form.code = ''
    recovery.value = undefined
    void again()
  },
})
const all = [begin, confirm, renew, end]
const trouble = computed(
  () => all.filter((m) => m.submittedAt.value).sort((a, b) => b.submittedAt.value - a.submittedAt.value)[0],
)
</script>

<template>
  <h2>{{ $t('mine.codes') }}</h2>
  <p v-if="have.data.value?.required && !have.data.value.onSince" class="sheet need" role="status">
    {{ $t('mine.codesNeeded') }}
  </p>
  <p class="faint">
    {{
      have.data.value?.onSince
        ? $t('mine.codesOn', { at: when(have.data.value.onSince), left: have.data.value.recoveryLeft })
        : $t('mine.codesAbout')
    }}
  </p>
  <div v-if="recovery" class="sheet need" role="status">
    <p>{{ $t('mine.keepRecovery') }}</p>
    <ul class="codes">
      <li v-for="c in recovery" :key="c">
        <code>{{ c }}</code>
      </li>
    </ul>
    <RouterLink to="/board">{{ $t('mine.toBoard') }}</RouterLink>
  </div>
  <form v-if="have.data.value?.onSince" class="narrow" @submit.prevent="renew.mutate()">
    <TextField id="own-code" v-model="form.code" autocomplete="one-time-code" :label="$t('enter.code')" />
    <Button
      type="submit"
      size="small"
      variant="outlined"
      :label="$t('mine.newRecovery')"
      :disabled="!form.code"
    />
    <Button
      size="small"
      variant="text"
      :label="$t('mine.endCodes')"
      :disabled="!form.code"
      @click="end.mutate()"
    />
  </form>
  <form v-else-if="begun" class="narrow" @submit.prevent="confirm.mutate()">
    <p>{{ $t('mine.showApp') }}</p>
    <img :src="begun.picture" width="196" height="196" :alt="$t('mine.qrCode')" />
    <p class="faint">
      {{ $t('mine.orEnter') }} <code>{{ begun.secret }}</code>
    </p>
    <TextField id="own-code" v-model="form.code" autocomplete="one-time-code" :label="$t('mine.codeOfApp')" />
    <Button type="submit" size="small" :label="$t('mine.turnOn')" :disabled="!form.code" />
  </form>
  <form v-else-if="have.data.value" class="narrow" @submit.prevent="begin.mutate()">
    <TextField
      id="codes-password"
      v-model="form.password"
      type="password"
      autocomplete="current-password"
      :label="$t('enter.password')"
    />
    <Button
      type="submit"
      size="small"
      variant="outlined"
      :label="$t('mine.setUpCodes')"
      :disabled="!form.password"
    />
  </form>
  <Oops :error="trouble?.error.value ?? have.error.value" />
</template>

<style scoped>
.narrow {
  max-width: 22rem;
}

.need {
  padding: 0.6rem 0.9rem;
}

.codes {
  columns: 2;
  margin: 0;
  padding: 0;
  list-style: none;
  max-width: 26rem;
}

img {
  image-rendering: pixelated;
  background: #fff;
}

code {
  overflow-wrap: anywhere;
}
</style>
