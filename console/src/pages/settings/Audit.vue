<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Column from 'primevue/column'
import { computed } from 'vue'

import { api, ok } from '../../api/client'
import { useAddress } from '../../parts/address'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import TextField from '../../parts/form/TextField.vue'
import Listing from '../../parts/Listing.vue'
import PageHead from '../../parts/PageHead.vue'
import Pager from '../../parts/Pager.vue'
import { exactly } from '../../parts/when'
import { $t } from '../../texts'
import { detailText, pageOfSubject } from './audit'

/** Who did what, and when; nobody changes it. */
const address = useAddress()
const text = address.kept('text', '', true)
const last = address.kept('hours')
const hours = computed({
  get: () => Number(last.value) || 0,
  set: (n: number) => (last.value = n ? String(n) : ''),
})
const cursor = address.cursors()
const since = computed(() =>
  hours.value
    ? new Date(Math.floor(Date.now() / 60000) * 60000 - hours.value * 3600e3).toISOString()
    : undefined,
)
const query = computed(() => ({
  text: text.value.trim() || undefined,
  since: since.value,
  cursor: cursor.value.at(-1),
  limit: 50,
}))
const list = useQuery({
  queryKey: ['audit', query],
  queryFn: () => ok(api.GET('/api/v1/audit-entries', { params: { query: query.value } })),
  placeholderData: (before) => before,
})
</script>

<template>
  <PageHead :title="$t('shell.audit')" :about="$t('settings.auditAbout')" />
  <div class="actions filters" role="search">
    <TextField
      v-model="text"
      type="search"
      hidden
      :label="$t('settings.auditText')"
      :placeholder="$t('settings.auditText')"
    />
    <ChoiceField
      v-model="hours"
      hidden
      :label="$t('events.since')"
      :options="[
        { value: 0, label: $t('events.atAnyTime') },
        { value: 1, label: $t('events.inLastHour') },
        { value: 24, label: $t('events.inLastDay') },
        { value: 168, label: $t('events.inLastWeek') },
      ]"
    />
  </div>
  <Listing
    :rows="list.data.value?.items"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    :empty="$t('settings.auditEmpty')"
  >
    <Column :header="$t('common.at')" class="plain"
      ><template #body="{ data }"
        ><span class="faint">{{ exactly(data.at) }}</span></template
      ></Column
    >
    <Column class="plain" field="who" :header="$t('settings.auditWho')" />
    <Column class="plain" field="what" :header="$t('settings.auditWhat')" />
    <Column class="plain" :header="$t('settings.auditSubject')">
      <template #body="{ data }"
        ><RouterLink v-if="pageOfSubject(data.subject)" :to="pageOfSubject(data.subject)!">{{
          data.subject.split('/')[0]
        }}</RouterLink
        ><template v-else>{{ data.subject.split('/')[0] }}</template></template
      >
    </Column>
    <Column :header="$t('settings.auditDetail')">
      <template #body="{ data }"
        ><span class="faint detail">{{ detailText(data.detail) }}</span></template
      >
    </Column>
  </Listing>
  <Pager v-model="cursor" :next="list.data.value?.next" />
</template>

<style scoped>
.filters {
  margin-bottom: 0.7rem;
}

:deep(.plain) {
  white-space: nowrap;
}

.detail {
  overflow-wrap: anywhere;
}
</style>
