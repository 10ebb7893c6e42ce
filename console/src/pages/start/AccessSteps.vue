<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../../api/client'
import Oops from '../../parts/Oops.vue'
import { useCapabilities } from './capabilities'
import { accessSteps } from './steps'
import Steps from './Steps.vue'

/** Leads from the service that sells to the first person who has access. */
const props = defineProps<{ offers: Schemas['Offer'][] }>()
const { able, interfaces, error, again } = useCapabilities()
const steps = computed(() =>
  interfaces.value
    ? accessSteps({
        able,
        offers: props.offers.length,
        on: props.offers.filter((o) => o.on).length,
        people: props.offers.reduce((n, o) => n + o.active + o.ended, 0),
      })
    : [],
)
</script>

<template>
  <Oops :error="error" :again="again" />
  <Steps name="access-steps" :title="$t('start.accessSteps')" :steps="steps" />
</template>
