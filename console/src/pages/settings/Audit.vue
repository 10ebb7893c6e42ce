<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Column from 'primevue/column'
import { computed } from 'vue'

import { api, ok } from '../../api/client'
import { useAddress } from '../../parts/address'
import TextField from '../../parts/form/TextField.vue'
import Listing from '../../parts/Listing.vue'
import PageHead from '../../parts/PageHead.vue'
import Pager from '../../parts/Pager.vue'
import { useSince } from '../../parts/since'
import SinceField from '../../parts/SinceField.vue'
import { exactly } from '../../parts/when'
import { $t } from '../../texts'
import { detailText, pageOfSubject } from './audit'

/** Who did what, and when; nobody changes it. */
const address = useAddress()
const text = address.kept('text', '', true)
const { hours, since } = useSince(address)
const cursor = address.cursors()
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
    <SinceField v-model="hours" />
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
