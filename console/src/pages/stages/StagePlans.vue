<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, ok, type Schemas } from '../../api/client'
import Listing from '../../parts/Listing.vue'
import PageHead from '../../parts/PageHead.vue'
import StagePlanForm from './StagePlanForm.vue'

/** The stage plans, and how many have finished each. */
const router = useRouter()
const list = useQuery({ queryKey: ['stage-plans'], queryFn: () => ok(api.GET('/api/v1/stage-plans')) })
const form = ref(false)
const show = (p: Schemas['StagePlan']) => router.push(`/stage-plans/${p.id}`)
</script>

<template>
  <PageHead
    title="Stages"
    about="StagePlans: ordered stages of a course. Each is for whoever learns in its course."
  >
    <Button size="small" label="Make a stage plan…" @click="form = true" />
  </PageHead>
  <Listing
    sorts
    :rows="list.data.value?.items"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    :choose="(p) => show(p as Schemas['StagePlan'])"
    empty="No stage plan yet. Make one: its stages ask for modules, courses, badges and scores, and may give badges of their own."
  >
    <Column header="Stage plan" field="name" sortable>
      <template #body="{ data }"
        ><RouterLink :to="`/stage-plans/${data.id}`" @click.stop>{{ data.name }}</RouterLink></template
      >
    </Column>
    <Column field="course" header="Course" sortable />
    <Column header="Stages">
      <template #body="{ data }">{{
        data.stages.map((s: Schemas['Stage']) => s.title).join(' → ')
      }}</template>
    </Column>
    <Column header="Finished">
      <template #body="{ data }">{{ data.finished }} of {{ data.people }}</template>
    </Column>
    <Column header="">
      <template #body="{ data }">
        <span v-if="data.onSince">● on</span><span v-else class="faint">○ off</span>
      </template>
    </Column>
  </Listing>
  <StagePlanForm v-if="form" @close="form = false" @saved="show" />
</template>
