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
  <PageHead :title="$t('stages.stages')" :about="$t('stages.stageplansOrderedStagesOfCourse')">
    <Button size="small" :label="$t('stages.makeStagePlanDialog')" @click="form = true" />
  </PageHead>
  <Listing
    sorts
    :rows="list.data.value?.items"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    :choose="(p) => show(p as Schemas['StagePlan'])"
    :empty="$t('stages.noStagePlanYetMake')"
  >
    <Column :header="$t('stages.stagePlan')" field="name" sortable>
      <template #body="{ data }"
        ><RouterLink :to="`/stage-plans/${data.id}`" @click.stop>{{ data.name }}</RouterLink></template
      >
    </Column>
    <Column field="course" :header="$t('common.course')" sortable />
    <Column :header="$t('stages.stages')">
      <template #body="{ data }">{{
        data.stages.map((s: Schemas['Stage']) => s.title).join(' → ')
      }}</template>
    </Column>
    <Column :header="$t('stages.finished')">
      <template #body="{ data }">{{
        $t('stages.ofFinished', { finished: data.finished, people: data.people })
      }}</template>
    </Column>
    <Column header="">
      <template #body="{ data }">
        <span v-if="data.onSince">{{ $t('stages.on') }}</span><span v-else class="faint">{{
          $t('stages.off')
        }}</span>
      </template>
    </Column>
  </Listing>
  <StagePlanForm v-if="form" @close="form = false" @saved="show" />
</template>
