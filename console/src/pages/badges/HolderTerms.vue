<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { ref } from 'vue'

import { api, ok } from '../../api/client'
import AreaField from '../../parts/form/AreaField.vue'
import FormDialog from '../../parts/form/FormDialog.vue'
import { letGo } from '../../parts/form/typed'
import Oops from '../../parts/Oops.vue'

/** What people accept before anything about them is public. */
const queries = useQueryClient()
const terms = useQuery({ queryKey: ['holder-terms'], queryFn: () => ok(api.GET('/api/v1/holder-terms')) })
const text = ref<string>()
const save = useMutation({
  mutationFn: () => ok(api.PUT('/api/v1/holder-terms', { body: { text: text.value ?? '' } })),
  onSuccess: async () => {
    await queries.invalidateQueries({ queryKey: ['holder-terms'] })
    letGo()
    text.value = undefined
  },
})
</script>

<template>
  <h2>{{ $t('badges.holderTerms') }}</h2>
  <p class="faint">{{ $t('badges.aboutHolderTerms') }}</p>
  <template v-if="terms.data.value">
    <p class="terms">{{ terms.data.value.text }}</p>
    <p>
      <small class="faint">{{ $t('badges.versionNo', { n: terms.data.value.version }) }}</small>
      <Button
        size="small"
        variant="text"
        :label="$t('badges.change')"
        :aria-label="$t('badges.changeTerms')"
        @click="text = terms.data.value.text"
      />
    </p>
  </template>
  <Oops :error="terms.error.value" />
  <FormDialog
    v-if="text !== undefined"
    :title="$t('badges.changeTerms')"
    :submit="$t('common.save')"
    :sending="save.isPending.value"
    :error="save.error.value"
    :typed="text"
    @submit="save.mutate()"
    @close="text = undefined"
  >
    <AreaField id="holder-terms" v-model="text" name="text" :rows="12" :label="$t('badges.terms')" />
    <p class="faint">{{ $t('badges.askedAgain') }}</p>
  </FormDialog>
</template>

<style scoped>
.terms {
  max-width: 44rem;
  white-space: pre-line;
}
</style>
