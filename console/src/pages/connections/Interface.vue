<script setup lang="ts">
import { useMutation, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, ifMatch, ok, type Schemas } from '../../api/client'
import Checklist from '../../parts/Checklist.vue'
import FileField from '../../parts/form/FileField.vue'
import Oops from '../../parts/Oops.vue'
import Signal from '../../parts/Signal.vue'
import { when } from '../../parts/when'
import { word } from '../../parts/words'
import Grant from './Grant.vue'
import { capabilities, keepsClasses, refused, resting, uploadPackage } from './interface'
import InterfaceForm from './InterfaceForm.vue'
import RemoveDialog from './RemoveDialog.vue'

type Interface = Schemas['Interface']

/** One interface of a connection: what is done of it, what works, and what can be done with it. */
const props = defineProps<{ one: Interface; connection: Schemas['Connection'] }>()
const i = computed(() => props.one)
const router = useRouter()
const queries = useQueryClient()
const path = (i: Interface) => ({ params: { path: { id: i.id } } })
const refresh = () => queries.invalidateQueries({ queryKey: ['connections'] })
const probe = useMutation({
  mutationFn: (i: Interface) => ok(api.POST('/api/v1/interfaces/{id}/probe', path(i))),
  onSuccess: refresh,
})
const pause = useMutation({
  mutationFn: (i: Interface) =>
    ok(
      api.PATCH('/api/v1/interfaces/{id}', {
        params: { path: { id: i.id }, header: ifMatch(i.version) },
        body: { paused: !i.pausedAlone },
      }),
    ),
  onSettled: refresh,
})
const read = useMutation({
  mutationFn: (i: Interface) => ok(api.POST('/api/v1/interfaces/{id}/read', { ...path(i), body: {} })),
  onSuccess: (r) => router.push(`/runs/${r.id}`),
})
const upload = useMutation({
  mutationFn: ({ i, file }: { i: Interface; file: File }) => uploadPackage(i.id, file),
  onSuccess: (r) => router.push(`/runs/${r.id}`),
})
function choose(i: Interface, [file]: File[]) {
  if (file) upload.mutate({ i, file })
}
const editing = ref(false)
const removing = ref(false)
const error = computed(() => upload.error.value ?? probe.error.value ?? pause.error.value ?? read.error.value)
</script>

<template>
  <Oops :error="error" />
  <article class="sheet">
    <div class="what">
      <h2>{{ i.label || i.title }}</h2>
      <p class="faint">
        <template v-if="i.label">{{ i.title }}<br /></template
        >{{ i.settings.address ?? i.settings.server ?? i.settings.issuer ?? '' }}
      </p>
      <Checklist :list="i.checklist" />
    </div>
    <div class="can">
      <p v-if="i.pausedAlone">
        <Signal state="paused" /> <span class="faint">{{ $t('connections.whatDependsOnItWaits') }}</span>
      </p>
      <p v-for="(r, n) in resting(i)" :key="n" class="rests">
        <b>{{
          $t('connections.restsUntilOperation', {
            operation: r.operation || $t('connections.service'),
            until: when(r.until),
          })
        }}</b>
        {{ r.reason }}.
        <RouterLink :to="`/deliveries?interface=${i.id}`">{{
          $t('connections.deliveryWaits', { waiting: r.waiting }, r.waiting)
        }}</RouterLink>
      </p>
      <p v-if="!i.probe.length" class="faint">{{ $t('connections.notTestedYet') }}</p>
      <div v-for="r in i.probe" :key="r.capability" class="capability">
        <span>{{ capabilities[r.capability] ?? r.capability }}</span>
        <Signal :state="r.state" />
        <span class="faint"
          >{{ r.detail
          }}<template v-if="r.remedy"
            ><br /><b>{{ r.remedy }}</b> {{ r.owner }}</template
          ></span
        >
      </div>
      <Grant v-if="i.signsIn" :one="i" />
      <p v-if="i.lastRead" class="faint fresh">
        {{ $t('connections.lastReadColon') }}
        <RouterLink :to="`/runs/${i.lastRead.id}`"
          >{{ word(i.lastRead.state) }}, {{ when(i.lastRead.finishedAt ?? i.lastRead.createdAt) }}</RouterLink
        >
      </p>
    </div>
    <div class="actions">
      <Button
        v-if="i.kind === 'oneroster' || i.settings.folder"
        size="small"
        :label="$t('connections.readNow')"
        :disabled="i.paused || refused(i)"
        :title="refused(i) ? $t('connections.registerRefusesMendInterfaceFirst') : undefined"
        @click="read.mutate(i)"
      />
      <FileField
        v-if="i.kind === 'oneroster-csv'"
        hidden
        :label="$t('connections.uploadPackageFor', { name: i.name })"
        accept=".zip"
        :button="upload.isPending.value ? $t('connections.uploading') : $t('connections.upload')"
        :disabled="upload.isPending.value"
        @choose="(files) => choose(i, files)"
      />
      <Button
        size="small"
        variant="outlined"
        :label="$t('connections.test')"
        :loading="probe.isPending.value"
        @click="probe.mutate(i)"
      />
      <RouterLink v-if="keepsClasses(i)" :to="`/interfaces/${i.id}/matching`">{{
        $t('connections.whoIsWho')
      }}</RouterLink>
      <RouterLink v-if="keepsClasses(i)" :to="`/interfaces/${i.id}/unpaired`">{{
        $t('connections.unpairedClasses')
      }}</RouterLink>
      <RouterLink v-if="i.lastRead" :to="`/interfaces/${i.id}/proposals`">{{
        $t('connections.secondAccountsAndTestLearners')
      }}</RouterLink>
      <RouterLink v-if="i.kind === 'lti'" :to="`/interfaces/${i.id}/courses`">{{
        $t('connections.coursePages')
      }}</RouterLink>
      <RouterLink v-if="i.kind === 'http-api'" :to="`/interfaces/${i.id}/operations`">{{
        $t('connections.operations')
      }}</RouterLink>
      <RouterLink v-if="i.kind === 'cloudevents'" :to="`/interfaces/${i.id}/meaning`">{{
        $t('connections.whatItsEventsMean')
      }}</RouterLink>
      <Button size="small" variant="text" :label="$t('common.edit')" @click="editing = true" />
      <Button
        size="small"
        variant="text"
        :label="i.pausedAlone ? $t('common.resume') : $t('common.pause')"
        @click="pause.mutate(i)"
      />
      <Button size="small" variant="text" :label="$t('connections.remove')" @click="removing = true" />
    </div>
  </article>
  <InterfaceForm v-if="editing" :connection="connection" :edit="i" @close="editing = false" />
  <RemoveDialog v-if="removing" :id="i.id" of="interfaces" :name="i.name" @close="removing = false" />
</template>

<style scoped>
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

@media (max-width: 1000px) {
  article,
  .capability {
    grid-template-columns: minmax(0, 1fr);
    gap: 0.2rem 1rem;
  }
}
</style>
