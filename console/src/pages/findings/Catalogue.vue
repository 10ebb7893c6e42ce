<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Column from 'primevue/column'
import { computed } from 'vue'

import { api, ok } from '../../api/client'
import { useAddress } from '../../parts/address'
import TextField from '../../parts/form/TextField.vue'
import Listing from '../../parts/Listing.vue'
import PageHead from '../../parts/PageHead.vue'

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
const severity: Record<string, string> = { note: '· note', warn: '◐ warns', block: '▲ stops' }
</script>

<template>
  <PageHead
    title="Kinds of findings"
    :about="
      rows && `${rows.length} of ${list.data.value?.length}, each with what it means and who can mend it`
    "
  >
    <TextField v-model="text" type="search" placeholder="Find" hidden label="Find" />
  </PageHead>
  <Listing
    sorts
    :rows="rows"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    row-key="code"
    empty="Nothing fits."
  >
    <Column header="Finding" field="title" sortable
      ><template #body="{ data }"
        >{{ data.title }} <code class="faint">{{ data.code }}</code></template
      ></Column
    >
    <Column header=""
      ><template #body="{ data }">{{ severity[data.severity] ?? data.severity }}</template></Column
    >
    <Column field="explanation" header="What it means" />
    <Column field="remedy" header="What to do" />
    <Column field="owner" header="Who can" sortable />
  </Listing>
</template>
