<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, ifMatch, ok, type Schemas } from '../../api/client'
import Checklist from '../../parts/Checklist.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import Signal from '../../parts/Signal.vue'
import { when } from '../../parts/when'
import ConnectionForm from './ConnectionForm.vue'
import RemoveDialog from './RemoveDialog.vue'

type Connection = Schemas['Connection']

const router = useRouter()
const queries = useQueryClient()
const list = useQuery({ queryKey: ['connections'], queryFn: () => ok(api.GET('/api/v1/connections')) })
const rows = computed(() => list.data.value?.items)
const form = ref<{ edit?: Connection } | undefined>()

const path = (c: Connection) => ({ params: { path: { id: c.id } } })
const refresh = () => queries.invalidateQueries({ queryKey: ['connections'] })
const probe = useMutation({
  mutationFn: (c: Connection) => ok(api.POST('/api/v1/connections/{id}/probe', path(c))),
  onSuccess: refresh,
})
const pause = useMutation({
  mutationFn: (c: Connection) =>
    ok(
      api.PATCH('/api/v1/connections/{id}', {
        params: { path: { id: c.id }, header: ifMatch(c.version) },
        body: { paused: !c.paused },
      }),
    ),
  onSuccess: refresh,
})
const read = useMutation({
  mutationFn: (c: Connection) => ok(api.POST('/api/v1/connections/{id}/read', { ...path(c), body: {} })),
  onSuccess: (r) => router.push(`/runs/${r.id}`),
})
const upload = useMutation({
  mutationFn: async ({ c, file }: { c: Connection; file: File }) =>
    ok(
      api.POST('/api/v1/connections/{id}/upload', {
        ...path(c),
        body: file as unknown as string,
        bodySerializer: (body: unknown) => body as File,
        headers: { 'Content-Type': 'application/zip' },
      }),
    ),
  onSuccess: (r) => router.push(`/runs/${r.id}`),
})
function choose(c: Connection, event: Event) {
  const input = event.target as HTMLInputElement
  const file = input.files?.[0]
  if (file) upload.mutate({ c, file })
  input.value = ''
}
const removed = useQuery({
  queryKey: ['connections', 'removed'],
  queryFn: () => ok(api.GET('/api/v1/connections', { params: { query: { removed: true } } })),
})
const restore = useMutation({
  mutationFn: (c: Connection) => ok(api.POST('/api/v1/connections/{id}/restore', { ...path(c), body: {} })),
  onSuccess: () => queries.invalidateQueries(),
})
const removing = ref<Connection | undefined>()
const resting = (c: Connection) => c.rests.filter((r) => r.until && new Date(r.until) > new Date())
const error = computed(
  () =>
    restore.error.value ?? upload.error.value ?? probe.error.value ?? pause.error.value ?? read.error.value,
)

/** Whether the register said that it gives nothing as the connection is now. */
const refused = (c: Connection) =>
  c.probe.some((r) => ['wrong-credential', 'not-allowed', 'not-enabled', 'nothing-there'].includes(r.state))

const names: Record<string, string> = {
  'people-in': 'people in',
  'people-out': 'people out',
  'learning-events-in': 'learning events in',
  'events-in': 'events in',
  'messages-out': 'messages out',
}
</script>

<template>
  <PageHead
    title="Connections"
    about="One connection serves every course. Each capability is tested on its own."
  >
    <Button size="small" label="Connect a system…" @click="form = {}" />
  </PageHead>
  <Oops :error="list.error.value" :again="list.refetch" />
  <Oops :error="error" />
  <p v-if="rows && !rows.length" class="sheet empty faint">
    Nothing is connected yet. Start with the register; a course platform and outside services come next.
  </p>
  <article v-for="c in rows" :key="c.id" class="sheet">
    <div class="what">
      <h2>{{ c.name }}</h2>
      <p class="faint">{{ c.title }}<br />{{ c.settings.address ?? c.settings.server ?? '' }}</p>
      <Checklist :list="c.checklist" />
    </div>
    <div class="can">
      <p v-if="c.paused"><Signal state="paused" /> <span class="faint">What depends on it waits.</span></p>
      <p v-for="(r, i) in resting(c)" :key="i" class="rests">
        <b>{{ r.operation || 'The service' }} rests until {{ when(r.until) }}.</b> {{ r.reason }}.
        <RouterLink :to="`/deliveries?connection=${c.id}`">{{
          r.waiting === 1 ? '1 delivery waits' : `${r.waiting} deliveries wait`
        }}</RouterLink>
      </p>
      <p v-if="!c.probe.length" class="faint">Not tested yet.</p>
      <div v-for="r in c.probe" :key="r.capability" class="capability">
        <span>{{ names[r.capability] ?? r.capability }}</span>
        <Signal :state="r.state" />
        <span class="faint"
          >{{ r.detail
          }}<template v-if="r.remedy"
            ><br /><b>{{ r.remedy }}</b> {{ r.owner }}</template
          ></span
        >
      </div>
      <p v-if="c.lastRead" class="faint fresh">
        Last read:
        <RouterLink :to="`/runs/${c.lastRead.id}`"
          >{{ c.lastRead.state.replaceAll('-', ' ') }},
          {{ when(c.lastRead.finishedAt ?? c.lastRead.createdAt) }}</RouterLink
        >
      </p>
    </div>
    <div class="actions">
      <Button
        v-if="c.kind === 'oneroster' || c.settings.folder"
        size="small"
        label="Read now"
        :disabled="c.paused || refused(c)"
        :title="refused(c) ? 'The register refuses: mend the connection first, then test it' : undefined"
        @click="read.mutate(c)"
      />
      <label v-if="c.kind === 'oneroster-csv'" class="file">
        {{ upload.isPending.value ? 'Uploading…' : 'Upload…' }}
        <input
          type="file"
          accept=".zip"
          :aria-label="`Upload a package for ${c.name}`"
          @change="choose(c, $event)"
        />
      </label>
      <Button
        size="small"
        variant="outlined"
        label="Test"
        :loading="probe.isPending.value && probe.variables.value?.id === c.id"
        @click="probe.mutate(c)"
      />
      <RouterLink v-if="c.kind === 'scim'" :to="`/connections/${c.id}/matching`">Who is who…</RouterLink>
      <RouterLink v-if="c.kind === 'scim'" :to="`/connections/${c.id}/unpaired`"
        >Unpaired classes…</RouterLink
      >
      <RouterLink v-if="c.lastRead" :to="`/connections/${c.id}/proposals`"
        >Second accounts and test learners…</RouterLink
      >
      <RouterLink v-if="c.kind === 'http-api'" :to="`/connections/${c.id}/operations`"
        >Operations…</RouterLink
      >
      <RouterLink v-if="c.kind === 'cloudevents'" :to="`/connections/${c.id}/meaning`"
        >What its events mean…</RouterLink
      >
      <Button size="small" variant="text" label="Edit…" @click="form = { edit: c }" />
      <Button size="small" variant="text" :label="c.paused ? 'Resume' : 'Pause'" @click="pause.mutate(c)" />
      <Button size="small" variant="text" label="Remove…" @click="removing = c" />
    </div>
  </article>
  <section v-if="removed.data.value?.items.length" class="removed">
    <h2>Removed</h2>
    <p v-for="c in removed.data.value.items" :key="c.id" class="faint">
      {{ c.name }}, {{ when(c.removedAt) }}
      <Button size="small" variant="text" label="Restore" @click="restore.mutate(c)" />
    </p>
  </section>
  <RemoveDialog v-if="removing" :connection="removing" @close="removing = undefined" />
  <ConnectionForm v-if="form" :edit="form.edit" @close="form = undefined" />
</template>

<style scoped>
.file {
  background: var(--ink);
  color: var(--sheet);
  padding: 0.3rem 0.65rem;
  cursor: pointer;
}

.rests {
  border-left: 3px solid var(--signal);
  padding-left: 0.6rem;
  margin: 0 0 0.6rem;
}

.removed {
  margin-top: 1.5rem;
}

.file:focus-within {
  outline: 2px solid var(--signal);
  outline-offset: 2px;
}

.file input {
  position: absolute;
  width: 1px;
  height: 1px;
  opacity: 0;
}

article {
  display: grid;
  grid-template-columns: 16rem minmax(0, 1fr) fit-content(19rem);
  gap: 1.5rem;
  padding: 0.8rem 1rem;
  margin-bottom: 0.6rem;
}

h2 {
  font: 400 1.05rem/1.2 var(--serif);
  margin: 0 0 0.2rem;
}

p {
  margin: 0;
  overflow-wrap: anywhere;
}

.empty {
  padding: 1.4rem;
}

.capability {
  display: grid;
  grid-template-columns: 9rem 10rem 1fr;
  gap: 0.8rem;
  align-items: baseline;
  padding: 0.15rem 0;
}

.fresh {
  margin-top: 0.3rem;
}

.actions {
  align-content: start;
  align-items: flex-start;
}

.actions a {
  padding: 0.35rem 0;
}
</style>
