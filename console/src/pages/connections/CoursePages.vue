<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { computed, ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import { useAddress } from '../../parts/address'
import TickField from '../../parts/form/TickField.vue'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import Pager from '../../parts/Pager.vue'
import { when } from '../../parts/when'
import { mayAll } from '../../shell/may'
import SayDialog from './SayDialog.vue'

/** What a course platform opens here: by which deployments, in which courses, and who was not recognised. */
const props = defineProps<{ id: string }>()
const queries = useQueryClient()
const path = computed(() => ({ id: props.id }))
const service = useQuery({
  queryKey: ['interfaces', () => props.id],
  queryFn: () => ok(api.GET('/api/v1/interfaces/{id}', { params: { path: path.value } })),
})
const address = useAddress()
const undecided = address.tick('undecided')
const cursor = address.cursors()
const deployments = useQuery({
  queryKey: ['course-pages', 'deployments', () => props.id],
  queryFn: () => ok(api.GET('/api/v1/interfaces/{id}/deployments', { params: { path: path.value } })),
  enabled: () => mayAll('connect'),
})
const courses = useQuery({
  queryKey: ['course-pages', 'courses', () => props.id, undecided, cursor],
  queryFn: () =>
    ok(
      api.GET('/api/v1/interfaces/{id}/course-pages', {
        params: {
          path: path.value,
          query: { undecided: undecided.value, cursor: cursor.value.at(-1), limit: 50 },
        },
      }),
    ),
})
const strangers = useQuery({
  queryKey: ['course-pages', 'strangers', () => props.id],
  queryFn: () => ok(api.GET('/api/v1/interfaces/{id}/unrecognised', { params: { path: path.value } })),
})
const admit = useMutation({
  mutationFn: (d: Schemas['Deployment']) =>
    ok(
      api.PUT('/api/v1/deployments/{id}', {
        params: { path: { id: d.id } },
        body: { admitted: !d.admitted },
      }),
    ),
  onSettled: () => queries.invalidateQueries({ queryKey: ['course-pages'] }),
})
const saying = ref<{ course: Schemas['CoursePage'] } | { stranger: Schemas['Unrecognised'] }>()
</script>

<template>
  <PageHead
    :title="service.data.value?.name ?? $t('connections.coursePages')"
    :about="$t('connections.coursePagesAbout')"
  />
  <Oops :error="admit.error.value" />
  <h2 v-if="mayAll('connect')">{{ $t('connections.deployments') }}</h2>
  <Listing
    v-if="mayAll('connect')"
    :rows="deployments.data.value?.items"
    :loading="deployments.isLoading.value"
    :error="deployments.error.value"
    :again="deployments.refetch"
    :empty="$t('connections.noDeploymentYet')"
  >
    <Column :header="$t('connections.deployment')">
      <template #body="{ data }">{{ data.deployment }}</template>
    </Column>
    <Column :header="$t('common.state')">
      <template #body="{ data }">{{
        data.admitted
          ? $t('connections.admittedBy', { by: data.admittedBy, at: when(data.admittedAt) })
          : $t('connections.waitsToBeAdmitted')
      }}</template>
    </Column>
    <Column :header="$t('connections.courses')">
      <template #body="{ data }">{{ data.courses }}</template>
    </Column>
    <Column :header="$t('connections.latest')">
      <template #body="{ data }">{{ when(data.latestAt) }}</template>
    </Column>
    <Column style="width: 9rem">
      <template #body="{ data }">
        <Button
          size="small"
          :variant="data.admitted ? 'text' : 'outlined'"
          :label="data.admitted ? $t('connections.shutOut') : $t('connections.admit')"
          @click="admit.mutate(data)"
        />
      </template>
    </Column>
  </Listing>
  <h2>
    {{ $t('connections.coursesOpened')
    }}<template v-if="courses.data.value"> ({{ courses.data.value.total ?? 0 }})</template>
  </h2>
  <div class="filters">
    <TickField v-model="undecided" :label="$t('connections.undecidedOnly')" />
  </div>
  <Listing
    :rows="courses.data.value?.items"
    :loading="courses.isLoading.value"
    :error="courses.error.value"
    :again="courses.refetch"
    :empty="undecided ? $t('connections.noneUndecided') : $t('connections.noCourseOpened')"
  >
    <Column :header="$t('connections.courseThere')">
      <template #body="{ data }"
        >{{ data.title || data.label }}
        <span v-if="data.title && data.label" class="faint">{{ data.label }}</span></template
      >
    </Column>
    <Column :header="$t('connections.isAbout')">
      <template #body="{ data }">
        <span v-if="!data.sections.length">{{ $t('connections.notKnownYet') }}</span>
        <div v-for="s in data.sections" :key="s.id">
          <RouterLink :to="`/sections/${s.id}`">{{ s.title }}</RouterLink>
          <span class="faint"> {{ s.code }}</span>
        </div>
        <span v-if="data.decidedBy" class="faint">{{
          $t('connections.saidBy', { by: data.decidedBy })
        }}</span>
      </template>
    </Column>
    <Column :header="$t('connections.openedBy')">
      <template #body="{ data }">
        <RouterLink :to="`/course-pages/${data.id}`">{{
          $t('connections.nPeople', { people: data.people }, data.people)
        }}</RouterLink>
      </template>
    </Column>
    <Column :header="$t('connections.latest')">
      <template #body="{ data }">{{ when(data.latestAt) }}</template>
    </Column>
    <Column style="width: 11rem">
      <template #body="{ data }">
        <Button
          size="small"
          :variant="data.sections.length ? 'text' : 'outlined'"
          :label="$t('connections.sayWhichSection')"
          @click="saying = { course: data }"
        />
      </template>
    </Column>
  </Listing>
  <Pager v-model="cursor" :next="courses.data.value?.next" />
  <h2>
    {{ $t('connections.unrecognised')
    }}<template v-if="strangers.data.value"> ({{ strangers.data.value.total ?? 0 }})</template>
  </h2>
  <Listing
    :rows="strangers.data.value?.items"
    :loading="strangers.isLoading.value"
    :error="strangers.error.value"
    :again="strangers.refetch"
    :empty="$t('connections.everybodyRecognised')"
  >
    <Column :header="$t('connections.whoThere')">
      <template #body="{ data }"
        >{{ data.name || data.subject }}
        <span class="faint">{{ [data.email, data.identifier].filter(Boolean).join(' · ') }}</span></template
      >
    </Column>
    <Column :header="$t('connections.whyNot')">
      <template #body="{ data }">{{ data.why }}</template>
    </Column>
    <Column :header="$t('connections.latest')">
      <template #body="{ data }">{{ when(data.latestAt) }}</template>
    </Column>
    <Column style="width: 9rem">
      <template #body="{ data }">
        <Button
          size="small"
          variant="outlined"
          :label="$t('connections.sayWho')"
          @click="saying = { stranger: data }"
        />
      </template>
    </Column>
  </Listing>
  <SayDialog v-if="saying" v-bind="saying" @close="saying = undefined" />
</template>

<style scoped>
h2 {
  font: 400 1.15rem/1.2 var(--serif);
  margin: 1.4rem 0 0.5rem;
}
</style>
