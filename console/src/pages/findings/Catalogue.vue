<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Column from 'primevue/column'
import { computed } from 'vue'

import { api, ok } from '../../api/client'
import { useAddress } from '../../parts/address'
import TextField from '../../parts/form/TextField.vue'
import Listing from '../../parts/Listing.vue'
import PageHead from '../../parts/PageHead.vue'
import { $t } from '../../texts'

/** Everything that can be noticed, with what it means and who can mend it. */
const text = useAddress().kept('text', '', true)
const list = useQuery({ queryKey: ['catalogue'], queryFn: () => ok(api.GET('/api/v1/catalogue')) })
const rows = computed(() =>
  list.data.value?.filter((e) =>
    `${e.code} ${e.title} ${e.explanation} ${e.remedy}`
      .toLowerCase()
      .includes(text.value.trim().toLowerCase()),
  ),
)
const severity: Record<string, string> = {
  note: $t('findings.note'),
  warn: $t('findings.warns'),
  block: $t('findings.stops'),
}
</script>

<template>
  <PageHead
    :title="$t('findings.kindsOfFindings')"
    :about="rows && $t('findings.ofEachWithWhatIt', { rows: rows.length, data: list.data.value?.length })"
  >
    <TextField
      v-model="text"
      type="search"
      :placeholder="$t('common.find')"
      hidden
      :label="$t('common.find')"
    />
  </PageHead>
  <Listing
    sorts
    :rows="rows"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    row-key="code"
    :empty="$t('common.nothingFits')"
  >
    <Column :header="$t('findings.finding')" field="title" sortable
      ><template #body="{ data }"
        >{{ data.title }} <code class="faint">{{ data.code }}</code></template
      ></Column
    >
    <Column header=""
      ><template #body="{ data }">{{ severity[data.severity] ?? data.severity }}</template></Column
    >
    <Column field="explanation" :header="$t('findings.whatItMeans')" />
    <Column field="remedy" :header="$t('findings.whatToDo')" />
    <Column field="owner" :header="$t('findings.whoCan')" sortable />
  </Listing>
</template>
