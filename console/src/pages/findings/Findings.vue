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
import { $t } from '../../texts'

type Finding = Schemas['Finding']

const groups = [
  { name: 'mend', title: $t('common.needsPerson') },
  { name: 'waiting', title: $t('findings.waits') },
  { name: 'left-out', title: $t('findings.leftOutOnPurpose') },
  { name: 'remark', title: $t('findings.remarksAboutRegister') },
  { name: 'seen', title: $t('findings.acknowledged') },
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
  mend: $t('findings.nothingNeedsPerson'),
  waiting: $t('findings.nobodyWaits'),
  'left-out': $t('findings.nobodyIsLeftOut'),
  remark: $t('findings.thereIsNothingToRemark'),
  seen: $t('findings.nothingHasBeenAcknowledged'),
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
  <PageHead :title="$t('findings.findings')" :about="$t('findings.whatWasNoticedWhatTo')">
    <TextField
      v-model="text"
      type="search"
      :placeholder="$t('common.find')"
      hidden
      :label="$t('common.find')"
    />
    <ChoiceField
      v-model="owner"
      hidden
      :label="$t('findings.whoCanMendIt')"
      :options="[
        { value: '', label: $t('findings.whoeverCanMendIt') },
        ...owners.map((o) => ({ value: o, label: o })),
      ]"
    />
  </PageHead>
  <Tabs v-model="group" :label="$t('findings.group')" :tabs="tabs" />
  <Oops :error="reopen.error.value" />
  <Listing
    sorts
    :rows="rows"
    :loading="list.isLoading.value"
    :error="list.error.value"
    :again="list.refetch"
    :empty="text || owner ? $t('common.nothingFits') : empty[group]!"
    row-key="key"
  >
    <Column :header="$t('findings.whoOrWhat')" field="subject" sortable>
      <template #body="{ data }">
        <RouterLink class="once" :to="data.personId ? `/people/${data.personId}` : data.link">{{
          data.subject || data.where
        }}</RouterLink>
      </template>
    </Column>
    <Column :header="$t('findings.where')" field="where" sortable>
      <template #body="{ data }"
        ><RouterLink class="once" :to="data.link">{{ data.where }}</RouterLink></template
      >
    </Column>
    <Column :header="$t('findings.finding')" field="title" sortable>
      <template #body="{ data }"
        >{{ data.title }} <span v-if="data.detail" class="faint">({{ data.detail }})</span>
        <div v-if="data.seen" class="faint">
          {{ data.seen.by }}, {{ when(data.seen.at) }}: {{ data.seen.note }}
        </div></template
      >
    </Column>
    <Column :header="$t('findings.whatToDo')"
      ><template #body="{ data }">
        <span :class="{ faint: data.group !== 'mend' }">{{ data.remedy }}</span>
      </template></Column
    >
    <Column :header="$t('findings.whoCan')" field="owner" sortable>
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
          :label="$t('findings.reopen')"
          :aria-label="$t('findings.reopenSubject', { subject: data.subject })"
          @click="reopen.mutate(data)"
        />
        <Button
          v-else-if="data.group === 'mend' || data.group === 'remark'"
          size="small"
          variant="text"
          :label="$t('findings.acknowledge')"
          :aria-label="$t('findings.acknowledgeSubject', { subject: data.subject })"
          @click="asking = data"
        />
      </template>
    </Column>
  </Listing>
  <Frame
    v-if="!!asking"
    :of="acknowledge"
    :title="$t('findings.acknowledgeHeading')"
    width="28rem"
    @close="asking = undefined"
  >
    <form v-if="asking" @submit.prevent="acknowledge.mutate(asking)">
      <p>
        <i18n-t keypath="findings.itStaysQuietUntilIt" scope="global"
          ><template #subject
            ><b>{{ asking.subject }}</b></template
          ><template #title>{{ asking.title }}</template></i18n-t
        >
      </p>
      <TextField id="note" v-model="note" name="note" required :label="$t('findings.whyItMayStayAs')" />
      <Oops :error="acknowledge.error.value" />
      <div class="actions">
        <Button
          type="submit"
          :label="$t('findings.acknowledgeHeading')"
          :loading="acknowledge.isPending.value"
        />
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
