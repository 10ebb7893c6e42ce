<script setup lang="ts">
import { useMutation } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { ref } from 'vue'

import { api, asItIs, ok } from '../../api/client'
import AreaField from '../../parts/form/AreaField.vue'
import FileField from '../../parts/form/FileField.vue'
import { provideForm } from '../../parts/form/form'
import TextField from '../../parts/form/TextField.vue'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import { word } from '../../parts/words'

/** Checks a badge of any issuer: a picture, a credential, or the address of one. */
const text = ref('')
const email = ref('')
const file = ref<File>()
const check = useMutation({
  mutationFn: () =>
    ok(
      api.POST('/api/v1/badge-checks', {
        params: { query: { email: email.value || undefined } },
        ...asItIs(file.value ?? text.value),
      }),
    ),
})
provideForm(
  () => check.error.value,
  () => check.isPending.value,
)
function choose([chosen]: File[]) {
  file.value = chosen
  text.value = ''
  check.mutate()
}
function typed(value: string) {
  text.value = value
  if (value) file.value = undefined
}
</script>

<template>
  <PageHead :title="$t('shell.checkBadge')" :about="$t('badges.aboutCheck')">
    <a href="/open/check" target="_blank" rel="noopener">{{ $t('badges.pageForAnybody') }}</a>
  </PageHead>
  <form class="check" @submit.prevent="check.mutate()">
    <FileField
      :label="$t('badges.file')"
      accept=".png,.svg,.json,.jwt,.txt"
      :help="file ? file.name : $t('badges.fileForms')"
      @choose="choose"
    />
    <AreaField
      id="badge"
      :model-value="text"
      :rows="3"
      :label="$t('badges.orAddress')"
      @update:model-value="typed($event ?? '')"
    />
    <TextField v-model="email" type="email" :label="$t('badges.whoseAddress')" />
    <Button
      type="submit"
      :label="$t('badges.check')"
      :loading="check.isPending.value"
      :disabled="!file && !text.trim()"
    />
  </form>
  <Oops :error="check.error.value" />
  <section v-if="check.data.value" role="status" class="sheet">
    <p class="verdict" :class="{ good: check.data.value.verdict === 'valid' }">
      {{ check.data.value.verdict === 'valid' ? '✓' : '✗' }} {{ word(check.data.value.verdict) }}
    </p>
    <p>{{ check.data.value.why }}</p>
    <p v-if="check.data.value.name">
      {{
        $t('badges.itSays', {
          name: check.data.value.name,
          issuer: check.data.value.issuer || check.data.value.issuerId,
        })
      }}
    </p>
    <p v-if="check.data.value.belongs !== undefined">
      {{ check.data.value.belongs ? $t('badges.isTheirs', { email }) : $t('badges.isNotTheirs', { email }) }}
    </p>
    <Listing
      :rows="check.data.value.checks.map((c) => ({ id: c.what, ...c }))"
      :loading="false"
      :error="null"
      empty=""
    >
      <Column :header="$t('badges.checked')">
        <template #body="{ data }">{{ word(`check-${data.what}`) }}</template>
      </Column>
      <Column :header="$t('badges.outcome')">
        <template #body="{ data }"
          ><span :class="{ bad: data.outcome !== 'passed' }">{{
            word(`check-${data.outcome}`)
          }}</span></template
        >
      </Column>
      <Column field="detail" :header="$t('badges.seen')" />
    </Listing>
  </section>
</template>

<style scoped>
.check {
  display: grid;
  gap: 0.9rem;
  max-width: 40rem;
  justify-items: start;
  margin-bottom: 1rem;
}

.check > * {
  width: 100%;
}

.check > button {
  width: auto;
}

.verdict {
  font-weight: 600;
  font-size: 1.1rem;
  color: var(--signal);
}

.verdict.good {
  color: var(--calm);
}

.bad {
  color: var(--signal);
}
</style>
