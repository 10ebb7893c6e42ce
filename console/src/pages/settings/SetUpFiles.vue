<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import FileField from '../../parts/form/FileField.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'

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
  connections: 'connection',
  matching: 'matching at',
  mappings: 'mapping of',
  templates: 'templates',
  hiddenSections: 'hidden sections',
  issuers: 'issuer',
  badges: 'badge',
  outlines: 'outline of',
  offers: 'offer',
  rules: 'rule',
  stagePlans: 'stage plan',
  settings: 'settings',
}
const words = (r: Schemas['ConfigReference']) =>
  ['templates', 'hiddenSections', 'settings'].includes(r.kind) ? kinds[r.kind] : `${kinds[r.kind]} ${r.name}`
const signs: Record<string, string> = { add: '+ add', change: '~ change', wait: '○ waits' }
const count = (what: string) => seen.value?.changes.filter((c) => c.what === what).length ?? 0
const summary = computed(
  () =>
    `${count('add')} added, ${count('change')} changed, ${count('wait')} waiting for a register; ` +
    `${seen.value?.same} as in the files already.`,
)
</script>

<template>
  <PageHead
    title="The set-up as files"
    about="connections, rules, badges, outlines and all the rest, without secrets, to review, keep and move"
  >
    <RouterLink to="/settings">Settings</RouterLink>
    <Button
      size="small"
      variant="outlined"
      label="Download set-up.yaml"
      :loading="download.isPending.value"
      @click="download.mutate()"
    />
  </PageHead>
  <Oops :error="download.error.value" />
  <p>
    Choose files to see what they would change here. Nothing is changed by that. What then comes in is off or
    paused and has no credentials; what the files do not name stays.
  </p>
  <label class="choose"
    >Files to compare
    <FileField
      id="set-up-files"
      hidden
      label="Files to compare"
      multiple
      accept=".yaml,.yml"
      :disabled="compare.isPending.value || take.isPending.value"
      @choose="choose"
    />
  </label>
  <p v-if="compare.isPending.value" class="faint">Comparing…</p>
  <Oops :error="compare.error.value" />
  <template v-if="seen?.faults.length">
    <h2>▲ {{ seen.faults.length }} {{ seen.faults.length === 1 ? 'fault' : 'faults' }} in the files</h2>
    <p>Nothing comes in while there is any. Mend them and choose the files again.</p>
    <ul class="faults">
      <li v-for="(f, i) in seen.faults" :key="i">
        <code>{{ f.file }}{{ f.line ? `:${f.line}` : '' }}</code> <b v-if="f.path">{{ f.path }}</b>
        {{ f.detail }}
      </li>
    </ul>
  </template>
  <template v-else-if="seen">
    <h2 v-if="seen.applied">● Done: {{ summary }}</h2>
    <h2 v-else-if="seen.changes.length">{{ summary }}</h2>
    <h2 v-else>● Nothing to change: everything is here just so.</h2>
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
        <div v-if="c.waits" class="faint">{{ c.waits }}; it comes in once a register has it</div>
      </li>
    </ul>
    <p v-if="seen.only.length" class="faint">
      Only here, and staying: {{ seen.only.map(words).join(', ') }}.
    </p>
    <Oops :error="take.error.value" />
    <Button
      v-if="!seen.applied && seen.changes.length"
      label="Take in exactly this"
      :loading="take.isPending.value"
      @click="take.mutate()"
    />
  </template>
  <template v-if="waiting.data.value?.length">
    <h2>Waiting for a register</h2>
    <ul class="changes">
      <li v-for="w in waiting.data.value" :key="w.kind + w.name">
        <b>○ {{ words(w) }}</b> {{ w.for }}
        <Button size="small" variant="text" label="Do not wait" @click="forget.mutate(w)" />
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
