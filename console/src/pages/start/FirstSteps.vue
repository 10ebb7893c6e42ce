<script setup lang="ts">
import { computed } from 'vue'

import Oops from '../../parts/Oops.vue'
import { useCapabilities } from './capabilities'
import { firstSteps } from './steps'
import Steps from './Steps.vue'

/** Leads from an empty installation to the first class that was run. */
const props = defineProps<{ sections: number; paired: number; ran: number }>()
const { able, interfaces, error, again } = useCapabilities()
const steps = computed(() =>
  interfaces.value ? firstSteps({ ...props, able, interfaces: interfaces.value }) : [],
)
</script>

<template>
  <Oops :error="error" :again="again" />
  <Steps name="first-steps" :title="$t('start.firstSteps')" :steps="steps" />
</template>
