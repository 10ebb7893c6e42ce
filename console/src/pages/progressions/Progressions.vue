<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, ok, type Schemas } from '../../api/client'
import Listing from '../../parts/Listing.vue'
import PageHead from '../../parts/PageHead.vue'
import ProgressionForm from './ProgressionForm.vue'

/** The progressions, and how many have come through each. */
const router = useRouter()
const list = useQuery({ queryKey: ['progressions'], queryFn: () => ok(api.GET('/api/v1/progressions')) })
const form = ref(false)
const show = (p: Schemas['Progression']) => router.push(`/progressions/${p.id}`)
</script>

<template>
  <PageHead
    title="Stages"
    about="Progressions: ordered stages of a course. Whoever learns in it is subscribed."
  >
    <Button size="small" label="Make a progression…" @click="form = true" />
  </PageHead>
  <Listing
    :rows="list.data.value?.items"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    :choose="(p) => show(p as Schemas['Progression'])"
    empty="No progression yet. Make one: its stages ask for modules, courses, badges and scores, and may give badges of their own."
  >
    <Column header="Progression">
      <template #body="{ data }"
        ><RouterLink :to="`/progressions/${data.id}`" @click.stop>{{ data.name }}</RouterLink></template
      >
    </Column>
    <Column field="course" header="Course" />
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
  <ProgressionForm v-if="form" @close="form = false" @saved="show" />
</template>
