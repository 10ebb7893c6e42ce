<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import FileField from '../../parts/form/FileField.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import { $t } from '../../texts'

/** The whole set-up as files: taken away, compared, taken in. */
const queries = useQueryClient()
const waiting = useQuery({
  queryKey: ['config', 'waiting'],
  queryFn: () => ok(api.GET('/api/v1/config/waiting')),
})
const files = ref<Record<string, string>>({})
const seen = ref<Schemas['ConfigComparison'] | undefined>()

const download = useMutation({
  mutationFn: async () => {
    const got = await ok(api.GET('/api/v1/config'))
    const names = Object.keys(got.files).filter((n) => n.endsWith('.yaml'))
    const text = names
      .sort()
      .map((n) => got.files[n])
      .join('---\n')
    const link = document.createElement('a')
    link.href = URL.createObjectURL(new Blob([text], { type: 'application/yaml' }))
    link.download = 'set-up.yaml'
    link.click()
    setTimeout(() => URL.revokeObjectURL(link.href), 1000)
  },
})
const compare = useMutation({
  mutationFn: async (list: File[]) => {
    const read: Record<string, string> = {}
    for (const f of list) read[f.name] = await f.text()
    files.value = read
    return ok(api.POST('/api/v1/config/compare', { body: { files: read } }))
  },
  onSuccess: (c) => (seen.value = c),
})
const take = useMutation({
  mutationFn: () =>
    ok(
      api.POST('/api/v1/config/apply', {
        body: { files: files.value, fingerprint: seen.value?.fingerprint },
      }),
    ),
  onSuccess: async (c) => {
    seen.value = c
    await queries.invalidateQueries()
  },
})
const forget = useMutation({
  mutationFn: (w: Schemas['ConfigWaiting']) =>
    ok(
      api.DELETE('/api/v1/config/waiting/{kind}/{name}', {
        params: { path: { kind: w.kind, name: w.name } },
      }),
    ),
  onSuccess: () => queries.invalidateQueries({ queryKey: ['config'] }),
})
function choose(files: File[]) {
  seen.value = undefined
  take.reset()
  compare.mutate(files)
}
const kinds: Record<string, string> = {
  connections: $t('settings.connection'),
  matching: $t('settings.matchingAt'),
  mappings: $t('settings.mappingOf'),
  templates: 'templates',
  hiddenSections: $t('settings.hiddenSections'),
  issuers: $t('settings.issuer'),
  badges: $t('settings.badge'),
  outlines: $t('settings.outlineOf'),
  offers: $t('settings.offer'),
  rules: $t('settings.rule'),
  stagePlans: $t('settings.stagePlan'),
  settings: 'settings',
}
const words = (r: Schemas['ConfigReference']) =>
  ['templates', 'hiddenSections', 'settings'].includes(r.kind) ? kinds[r.kind] : `${kinds[r.kind]} ${r.name}`
const signs: Record<string, string> = {
  add: $t('settings.add'),
  change: $t('settings.change'),
  wait: $t('settings.waits'),
}
const count = (what: string) => seen.value?.changes.filter((c) => c.what === what).length ?? 0
const summary = computed(
  () =>
    seen.value &&
    $t('settings.addedChangedWaitingForRegister', {
      added: count('add'),
      changed: count('change'),
      waiting: count('wait'),
      same: seen.value.same,
    }),
)
</script>

<template>
  <PageHead :title="$t('settings.setUpAsFiles')" :about="$t('settings.connectionsRulesBadgesOutlinesAnd')">
    <RouterLink to="/settings">{{ $t('settings.settings') }}</RouterLink>
    <Button
      size="small"
      variant="outlined"
      :label="$t('settings.downloadSetUpYaml')"
      :loading="download.isPending.value"
      @click="download.mutate()"
    />
  </PageHead>
  <Oops :error="download.error.value" />
  <p>{{ $t('settings.chooseFilesToSeeWhat') }}</p>
  <label class="choose"
    >{{ $t('settings.filesToCompare') }}
    <FileField
      id="set-up-files"
      hidden
      :label="$t('settings.filesToCompare')"
      multiple
      accept=".yaml,.yml"
      :disabled="compare.isPending.value || take.isPending.value"
      @choose="choose"
    />
  </label>
  <p v-if="compare.isPending.value" class="faint">{{ $t('settings.comparing') }}</p>
  <Oops :error="compare.error.value" />
  <template v-if="seen?.faults.length">
    <h2>{{ $t('settings.faultInFiles', { faults: seen.faults.length }, seen.faults.length) }}</h2>
    <p>{{ $t('settings.nothingComesInWhileThere') }}</p>
    <ul class="faults">
      <li v-for="(f, i) in seen.faults" :key="i">
        <code>{{ f.file }}{{ f.line ? `:${f.line}` : '' }}</code> <b v-if="f.path">{{ f.path }}</b>
        {{ f.detail }}
      </li>
    </ul>
  </template>
  <template v-else-if="seen">
    <h2 v-if="seen.applied">{{ $t('settings.done', { summary }) }}</h2>
    <h2 v-else-if="seen.changes.length">{{ summary }}</h2>
    <h2 v-else>{{ $t('settings.nothingToChangeEverythingIs') }}</h2>
    <ul class="changes">
      <li v-for="c in seen.changes" :key="c.kind + c.name">
        <b>{{ signs[c.what] }} {{ words(c) }}</b>
        <div v-for="f in c.fields" :key="f.path" class="differs">
          <code>{{ f.path }}</code>: <del v-if="f.before">{{ f.before }}</del><template
            v-if="f.before && f.after"
          >
            → </template
          ><ins v-if="f.after">{{ f.after }}</ins>
        </div>
        <div v-for="n in c.notes" :key="n" class="faint">{{ n }}</div>
        <div v-if="c.waits" class="faint">{{ $t('settings.itComesInOnceRegister', { waits: c.waits }) }}</div>
      </li>
    </ul>
    <p v-if="seen.only.length" class="faint">
      {{ $t('settings.onlyHereAndStaying', { only: seen.only.map(words).join(', ') }) }}
    </p>
    <Oops :error="take.error.value" />
    <Button
      v-if="!seen.applied && seen.changes.length"
      :label="$t('settings.takeInExactlyThis')"
      :loading="take.isPending.value"
      @click="take.mutate()"
    />
  </template>
  <template v-if="waiting.data.value?.length">
    <h2>{{ $t('settings.waitingForRegister') }}</h2>
    <ul class="changes">
      <li v-for="w in waiting.data.value" :key="w.kind + w.name">
        <b>○ {{ words(w) }}</b> {{ w.for }}
        <Button size="small" variant="text" :label="$t('settings.doNotWait')" @click="forget.mutate(w)" />
      </li>
    </ul>
    <Oops :error="forget.error.value" />
  </template>
  <Oops :error="waiting.error.value" :again="waiting.refetch" />
</template>

<style scoped>
.choose {
  display: inline-grid;
  gap: 0.3rem;
}

.faults,
.changes {
  list-style: none;
  padding: 0;
}

.changes li,
.faults li {
  border-top: 1px solid var(--line);
  padding: 0.4rem 0;
}

.faults li {
  color: var(--signal);
}

.differs {
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}

ins {
  text-decoration: none;
  font-weight: 600;
}
</style>
