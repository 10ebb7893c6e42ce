<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import Oops from '../../parts/Oops.vue'
import { useCapabilities } from './capabilities'
import { ruleSteps } from './steps'
import Steps from './Steps.vue'

/** Leads from what people do in a course to the first thing that follows from it. */
const props = defineProps<{ rules: Schemas['Rule'][] }>()
const { able, interfaces, error, again } = useCapabilities()
const courses = useQuery({ queryKey: ['courses'], queryFn: () => ok(api.GET('/api/v1/courses')) })
const badges = useQuery({ queryKey: ['badges'], queryFn: () => ok(api.GET('/api/v1/badges')) })
const steps = computed(() =>
  interfaces.value && courses.data.value && badges.data.value
    ? ruleSteps({
        able,
        outlines: courses.data.value.items.filter((c) => c.activities).length,
        badges: badges.data.value.items.length,
        rules: props.rules.length,
        on: props.rules.filter((r) => r.state === 'on').length,
        delivered: props.rules.some((r) => r.delivered > 0),
      })
    : [],
)
</script>

<template>
  <Oops
    :error="error ?? courses.error.value ?? badges.error.value"
    :again="() => (again(), courses.refetch(), badges.refetch())"
  />
  <Steps name="rule-steps" :title="$t('start.ruleSteps')" :steps="steps" />
</template>
