<script setup lang="ts">
import { useMutation } from '@tanstack/vue-query'
import { ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import AreaField from '../../parts/form/AreaField.vue'
import FormDialog from '../../parts/form/FormDialog.vue'
import { word } from '../../parts/words'
import { $t } from '../../texts'

/** What somebody would get of whom a provider says some claims. */
const props = defineProps<{ provider: Schemas['Provider'] }>()
const emit = defineEmits<{ close: [] }>()
const text = ref(
  JSON.stringify({ sub: 'x', name: '', email: '', email_verified: true, groups: [] }, undefined, 2),
)
const trial = useMutation({
  mutationFn: () => {
    let claims: Record<string, unknown>
    try {
      claims = JSON.parse(text.value) as Record<string, unknown>
    } catch (e) {
      throw new Error($t('settings.claimsAreNoJson', { why: (e as Error).message }))
    }
    return ok(
      api.POST('/api/v1/providers/{id}/trial', {
        params: { path: { id: props.provider.id } },
        body: { claims },
      }),
    )
  },
})
</script>

<template>
  <FormDialog
    :title="$t('settings.tryClaimsOf', { name: provider.name })"
    :submit="$t('settings.tryThem')"
    :cancel="$t('common.close')"
    width="44rem"
    :sending="trial.isPending.value"
    :error="trial.error.value"
    :typed="provider.id"
    @close="emit('close')"
    @submit="trial.mutate()"
  >
    <AreaField
      id="claims"
      v-model="text"
      name="claims"
      code
      :rows="8"
      :label="$t('settings.claims')"
      :help="$t('settings.claimsHelp')"
    />
    <div v-if="trial.data.value" role="status" class="sheet got">
      <p>
        <b>{{
          trial.data.value.refused
            ? $t('settings.wouldNotGetIn', { why: trial.data.value.refused })
            : trial.data.value.new
              ? $t('settings.wouldBeMade', { name: trial.data.value.user })
              : $t('settings.wouldSignInAs', { name: trial.data.value.user })
        }}</b>
      </p>
      <p v-if="trial.data.value.person">
        {{ $t('settings.isOfRegister', { name: trial.data.value.person }) }}
      </p>
      <p v-else-if="trial.data.value.why" class="faint">
        {{ $t('settings.isNobodyOfRegister', { why: trial.data.value.why }) }}
      </p>
      <ul>
        <li v-for="(m, i) in trial.data.value.mappings" :key="i">
          {{ m.holds ? '●' : '○' }} {{ word(m.role) }}:
          {{ m.holds ? $t('settings.claimHolds', { claim: m.claim, value: m.value ?? '' }) : m.why }}
        </li>
      </ul>
    </div>
  </FormDialog>
</template>

<style scoped>
.got {
  padding: 0.6rem 0.9rem;
}

.got p {
  margin: 0 0 0.2rem;
}

ul {
  margin: 0.3rem 0 0;
  padding: 0;
  list-style: none;
}
</style>
