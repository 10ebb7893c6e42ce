<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Column from 'primevue/column'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, ok, type Schemas } from '../../api/client'
import { useAddress } from '../../parts/address'
import { people, person as personOf, section as sectionOf, sections } from '../../parts/find'
import Finder from '../../parts/Finder.vue'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import Listing from '../../parts/Listing.vue'
import PageHead from '../../parts/PageHead.vue'
import Pager from '../../parts/Pager.vue'
import { happening, triggers } from '../../parts/triggers'
import { exactly } from '../../parts/when'
import Deliveries from './Deliveries.vue'

const props = defineProps<{ id?: string }>()
const route = useRoute()
const router = useRouter()
const address = useAddress()
const type = address.kept('type')
const cursor = address.cursors()
const person = address.kept('person')
const section = address.kept('section')
const query = computed(() => ({
  type: type.value,
  person: person.value || undefined,
  section: section.value || undefined,
  cursor: cursor.value.at(-1),
  limit: 50,
}))
const list = useQuery({
  queryKey: ['events', query],
  queryFn: () => ok(api.GET('/api/v1/events', { params: { query: query.value } })),
  placeholderData: (before) => before,
})
const open = (row: object) =>
  router.push({ path: `/events/${(row as Schemas['Event']).id}`, query: route.query })
</script>

<template>
  <PageHead :title="$t('events.events')" :about="$t('events.whatHappenedOnceEachAnd')">
    <Finder v-model="person" :label="$t('events.person')" :search="people" :named="personOf" />
    <Finder v-model="section" :label="$t('events.section')" :search="sections" :named="sectionOf" />
    <ChoiceField
      v-model="type"
      hidden
      :label="$t('events.type')"
      :options="[
        { value: '', label: $t('events.everyType') },
        ...triggers.map((t) => ({ value: t, label: `${happening(t)} (${t})` })),
      ]"
    />
  </PageHead>
  <Deliveries
    v-if="props.id"
    :event-id="props.id"
    @close="router.push({ path: '/events', query: route.query })"
  />
  <Listing
    :rows="list.data.value?.items"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    :choose="open"
    :empty="$t('events.nothingHasHappenedYet')"
    :next="{ to: '/connections/new?kind=xapi', text: $t('events.connectCoursePlatform') }"
  >
    <Column :header="$t('common.at')"
      ><template #body="{ data }"
        ><span class="faint">{{ exactly(data.recordedAt) }}</span></template
      ></Column
    >
    <Column :header="$t('events.event')"
      ><template #body="{ data }"
        ><RouterLink :to="{ path: `/events/${data.id}`, query: $route.query }" @click.stop>{{
          happening(data.type)
        }}</RouterLink
        >{{ ' ' }}<code class="faint">{{ data.type }}</code></template
      ></Column
    >
    <Column :header="$t('common.person')">
      <template #body="{ data }">
        <RouterLink v-if="data.personId" :to="`/people/${data.personId}`" @click.stop>{{
          data.person
        }}</RouterLink>
      </template>
    </Column>
    <Column field="section" :header="$t('common.section')" />
    <Column :header="$t('events.about')">
      <template #body="{ data }">
        <span class="faint">{{
          data.activity ||
          data.activityId?.split('/').at(-1) ||
          data.module ||
          data.moduleId ||
          data.data.stage ||
          (data.data.percent ? `${data.data.percent} %` : (data.data.badge ?? ''))
        }}</span>
      </template>
    </Column>
    <Column :header="$t('events.whatFollowed')">
      <template #body="{ data }">
        <span v-if="data.waiting" class="urgent">{{
          $t('events.ofWaitForPerson', { waiting: data.waiting, deliveries: data.deliveries })
        }}</span>
        <span v-else-if="data.deliveries">{{
          $t('events.delivery', { deliveries: data.deliveries }, data.deliveries)
        }}</span>
        <span v-else class="faint">{{ $t('events.noRule') }}</span>
      </template>
    </Column>
  </Listing>
  <Pager v-model="cursor" :next="list.data.value?.next" />
</template>

<style scoped>
.urgent {
  color: var(--signal);
  font-weight: 600;
}
</style>
