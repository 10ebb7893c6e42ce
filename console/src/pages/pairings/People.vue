<script setup lang="ts">
import Column from 'primevue/column'
import { computed, ref } from 'vue'

import type { Schemas } from '../../api/client'
import Listing from '../../parts/Listing.vue'
import { outcome } from '../../parts/words'

/** Everybody in a preview or a run, each with outcome, reason and remedy. */
interface Row {
  entry: Schemas['Decision']
  state: string
  answer?: string
}

const props = defineProps<{
  people: Row[] | undefined
  loading: boolean
  error: Error | null
  again?: () => unknown
}>()
/** Keys of the people that are ticked; given only where some can be. */
const ticked = defineModel<string[]>('ticked')
const canTick = (state: string) => ['to-add', 'to-update', 'to-remove'].includes(state)
const keyOf = (e: Schemas['Decision']) => e.personId || `account:${e.accountId}`
const shown = ref('')
const outcomes = computed(() => [...new Set((props.people ?? []).map((p) => p.state))])
const rows = computed(() =>
  props.people
    ?.filter((p) => !shown.value || p.state === shown.value)
    .map((p, i) => ({ id: p.entry.personId || p.entry.accountId || String(i), ...p })),
)
const urgent = ['needs-person', 'refused', 'not-arrived']
</script>

<template>
  <div class="tabs" role="group" aria-label="Outcome">
    <button type="button" :aria-pressed="!shown" @click="shown = ''">all {{ people?.length ?? '' }}</button>
    <button v-for="o in outcomes" :key="o" type="button" :aria-pressed="shown === o" @click="shown = o">
      {{ outcome(o, 2) }} {{ people?.filter((p) => p.state === o).length }}
    </button>
  </div>
  <Listing
    :rows="rows"
    :loading="loading"
    :error="error"
    :again="again"
    empty="Nobody is in this section yet."
  >
    <Column v-if="ticked" header="">
      <template #body="{ data }">
        <input
          v-if="canTick(data.state)"
          v-model="ticked"
          type="checkbox"
          :value="keyOf(data.entry)"
          :aria-label="`Only ${data.entry.name}`"
        />
      </template>
    </Column>
    <Column header="Outcome">
      <template #body="{ data }">
        <span class="outcome" :class="{ urgent: urgent.includes(data.state) }">{{
          outcome(data.state)
        }}</span>
      </template>
    </Column>
    <Column header="Person">
      <template #body="{ data }"
        ><RouterLink v-if="data.entry.personId" :to="`/people/${data.entry.personId}`">{{
          data.entry.name
        }}</RouterLink>
        <template v-else>{{ data.entry.name }}</template>
        <span class="faint">{{ data.entry.role }}</span></template
      >
    </Column>
    <Column header="Why">
      <template #body="{ data }">
        {{ data.entry.title }}
        <span v-if="data.answer || data.entry.detail" class="faint"
          >({{ data.answer || data.entry.detail }})</span
        >
        <div v-if="data.entry.remedy" class="remedy">
          {{ data.entry.remedy }} <span class="faint">{{ data.entry.owner }}</span>
        </div>
      </template>
    </Column>
  </Listing>
</template>

<style scoped>
.tabs {
  display: flex;
  gap: 1rem;
  margin: 0.5rem 0 0.4rem;
}

.tabs button {
  font: inherit;
  font-size: 12.5px;
  border: 0;
  border-bottom: 2px solid transparent;
  background: none;
  color: var(--faint);
  padding: 0.15rem 0;
  cursor: pointer;
}

.tabs button[aria-pressed='true'] {
  color: var(--ink);
  border-color: var(--ink);
}

.outcome {
  white-space: nowrap;
}

.urgent {
  color: var(--signal);
  font-weight: 600;
}

.remedy {
  font-size: 12.5px;
}
</style>
