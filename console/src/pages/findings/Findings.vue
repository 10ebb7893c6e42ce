<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { computed, ref } from 'vue'

import { api, every, ok, type Schemas } from '../../api/client'
import { useAddress } from '../../parts/address'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import Frame from '../../parts/form/Frame.vue'
import TextField from '../../parts/form/TextField.vue'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import Tabs from '../../parts/Tabs.vue'
import { when } from '../../parts/when'

type Finding = Schemas['Finding']

const groups = [
  { name: 'mend', title: 'needs a person' },
  { name: 'waiting', title: 'waits' },
  { name: 'left-out', title: 'left out on purpose' },
  { name: 'remark', title: 'remarks about the register' },
  { name: 'seen', title: 'acknowledged' },
]
const queries = useQueryClient()
const address = useAddress()
const group = address.kept('group', 'mend')
const text = address.kept('text', '', true)
const owner = address.kept('owner')
const seen = computed(() => group.value === 'seen')
const fetched = (seen: () => boolean) => ({
  queryKey: ['findings', seen],
  // All of them: a count is never that of the first page.
  queryFn: () =>
    every((cursor) =>
      ok(api.GET('/api/v1/findings', { params: { query: { seen: seen(), limit: 1000, cursor } } })),
    ),
})
const open = useQuery(fetched(() => false))
const quiet = useQuery(fetched(() => true))
const list = computed(() => (seen.value ? quiet : open))
const all = computed(() => list.value.data.value)
const rows = computed(() =>
  all.value
    ?.filter((f) => seen.value || f.group === group.value)
    .filter((f) => !owner.value || f.owner === owner.value)
    .filter((f) =>
      `${f.subject} ${f.where} ${f.title} ${f.detail}`.toLowerCase().includes(text.value.toLowerCase()),
    ),
)
const tabs = computed(() =>
  groups.map((g) => ({
    ...g,
    count:
      g.name === 'seen'
        ? quiet.data.value?.length
        : open.data.value?.filter((f) => f.group === g.name).length,
  })),
)
const owners = computed(() => [...new Set(all.value?.map((f) => f.owner))].sort())
const empty: Record<string, string> = {
  mend: 'Nothing needs a person.',
  waiting: 'Nobody waits.',
  'left-out': 'Nobody is left out.',
  remark: 'There is nothing to remark about the register.',
  seen: 'Nothing has been acknowledged.',
}

const asking = ref<Finding>()
const note = ref('')
const refresh = () =>
  Promise.all(['findings', 'today'].map((k) => queries.invalidateQueries({ queryKey: [k] })))
const path = (f: Finding) => ({ params: { path: { key: f.key } } })
const acknowledge = useMutation({
  mutationFn: (f: Finding) =>
    ok(api.PUT('/api/v1/findings/{key}/acknowledgement', { ...path(f), body: { note: note.value } })),
  onSuccess: () => {
    asking.value = undefined
    note.value = ''
    return refresh()
  },
})
const reopen = useMutation({
  mutationFn: (f: Finding) => ok(api.DELETE('/api/v1/findings/{key}/acknowledgement', path(f))),
  onSuccess: refresh,
})
</script>

<template>
  <PageHead
    title="Findings"
    about="What was noticed, what to do about it, and who can. What is left out on purpose never alarms."
  >
    <TextField v-model="text" type="search" placeholder="Find" hidden label="Find" />
    <ChoiceField
      v-model="owner"
      hidden
      label="Who can mend it"
      :options="[{ value: '', label: 'whoever can mend it' }, ...owners.map((o) => ({ value: o, label: o }))]"
    />
  </PageHead>
  <Tabs v-model="group" label="Group" :tabs="tabs" />
  <Oops :error="reopen.error.value" />
  <Listing
    sorts
    :rows="rows"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    :empty="text || owner ? 'Nothing fits.' : empty[group]!"
    row-key="key"
  >
    <Column header="Who or what" field="subject" sortable>
      <template #body="{ data }">
        <RouterLink class="once" :to="data.personId ? `/people/${data.personId}` : data.link">{{
          data.subject || data.where
        }}</RouterLink>
      </template>
    </Column>
    <Column header="Where" field="where" sortable>
      <template #body="{ data }"
        ><RouterLink class="once" :to="data.link">{{ data.where }}</RouterLink></template
      >
    </Column>
    <Column header="Finding" field="title" sortable>
      <template #body="{ data }"
        >{{ data.title }} <span v-if="data.detail" class="faint">({{ data.detail }})</span>
        <div v-if="data.seen" class="faint">
          {{ data.seen.by }}, {{ when(data.seen.at) }}: {{ data.seen.note }}
        </div></template
      >
    </Column>
    <Column header="What to do"
      ><template #body="{ data }">
        <span :class="{ faint: data.group !== 'mend' }">{{ data.remedy }}</span>
      </template></Column
    >
    <Column header="Who can" field="owner" sortable>
      <template #body="{ data }"
        ><span class="faint">{{ data.owner }}</span></template
      >
    </Column>
    <Column header="">
      <template #body="{ data }">
        <Button
          v-if="data.seen"
          size="small"
          variant="text"
          label="Reopen"
          :aria-label="`Reopen ${data.subject}`"
          @click="reopen.mutate(data)"
        />
        <Button
          v-else-if="data.group === 'mend' || data.group === 'remark'"
          size="small"
          variant="text"
          label="Acknowledge…"
          :aria-label="`Acknowledge ${data.subject}`"
          @click="asking = data"
        />
      </template>
    </Column>
  </Listing>
  <Frame v-if="!!asking" :of="acknowledge" title="Acknowledge" width="28rem" @close="asking = undefined">
    <form v-if="asking" @submit.prevent="acknowledge.mutate(asking)">
      <p>
        <b>{{ asking.subject }}</b>: {{ asking.title }}. It stays quiet until it changes.
      </p>
      <TextField id="note" v-model="note" required label="Why it may stay as it is" />
      <Oops :error="acknowledge.error.value" />
      <div class="actions">
        <Button type="submit" label="Acknowledge" :loading="acknowledge.isPending.value" />
      </div>
    </form>
  </Frame>
</template>

<style scoped>
.once {
  white-space: nowrap;
}

:deep(td .p-button) {
  margin: -0.35rem 0;
}
</style>
