<script setup lang="ts">
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Textarea from 'primevue/textarea'
import { computed, nextTick, onUnmounted, reactive, ref, watch } from 'vue'

import { api, ifMatch, ok } from '../../api/client'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import { when } from '../../parts/when'
import { $t } from '../../texts'
import { useInterfaces } from './interface'

/** What the events of a service mean for access, built from what it really sent. */
const props = defineProps<{ id: string }>()
const queries = useQueryClient()
const interfaces = useInterfaces()
const service = computed(() => interfaces.data.value?.items.find((c) => c.id === props.id))

const fields = [
  {
    name: 'person',
    title: $t('connections.whomItIsAbout'),
    about: $t('connections.addressOrRegistersIdentifier'),
  },
  {
    name: 'starts',
    title: $t('connections.givesAccessWhen'),
    about: $t('connections.trueWhenSomethingWasBought'),
  },
  { name: 'ends', title: $t('connections.endsAccessWhen'), about: $t('connections.trueWhenItWasCancelled') },
  { name: 'offer', title: $t('connections.whatWasBought'), about: $t('connections.offersNameAtService') },
  { name: 'order', title: $t('connections.orderLabel'), about: $t('connections.isDifferentForEachPurchase') },
  { name: 'buyerName', title: $t('connections.nameOfBuyer'), about: $t('connections.forBuyersWhoAreNot') },
  { name: 'scores', title: $t('connections.scoresAreFinal'), about: $t('connections.scoresAreFinalAbout') },
]
const mapping = reactive<Record<string, string>>({})
const tried = ref<Record<string, string>>()
let timer: ReturnType<typeof setTimeout> | undefined
watch(mapping, () => {
  clearTimeout(timer)
  timer = setTimeout(() => (tried.value = { ...mapping }), 300)
})
onUnmounted(() => clearTimeout(timer))
const meaning = useQuery({
  queryKey: ['meaning', () => props.id, tried],
  queryFn: () =>
    ok(
      api.POST('/api/v1/interfaces/{id}/meaning', {
        params: { path: { id: props.id } },
        body: tried.value ? { values: tried.value } : {},
      }),
    ),
  placeholderData: keepPreviousData,
})
// What is set now fills the fields once.
const begun = ref(false)
let from: number | undefined // the version from which it is edited
watch(
  meaning.data,
  (now) => {
    if (!now || begun.value) return
    from = service.value?.version
    for (const f of fields) mapping[f.name] = now.mapping[f.name] ?? ''
    begun.value = true
  },
  { immediate: true },
)
const examples = computed(() => meaning.data.value?.examples ?? [])
const wrong = computed(() => meaning.data.value?.wrong ?? {})
const at = ref(0)
const example = computed(() => examples.value[at.value])

const last = ref('person')
const areas = new Map<string, HTMLTextAreaElement>()
function put(path: string) {
  const area = areas.get(last.value)
  const text = mapping[last.value] ?? ''
  const from = area?.selectionStart ?? text.length
  const to = area?.selectionEnd ?? from
  // A field that holds nothing but a place gets the new one instead.
  const whole = from === to && /^[\w.[\]"]*$/.test(text)
  mapping[last.value] = whole ? path : text.slice(0, from) + path + text.slice(to)
  void nextTick(() => area?.focus())
}

const save = useMutation({
  mutationFn: () =>
    ok(
      api.PATCH('/api/v1/interfaces/{id}', {
        params: {
          path: { id: props.id },
          header: ifMatch(from ?? service.value?.version),
        },
        body: { values: { ...mapping } },
      }),
    ),
  onSuccess: (c) => {
    from = c.version
    return queries.invalidateQueries()
  },
})
const words: Record<string, string> = {
  starts: $t('connections.givesAccess'),
  ends: $t('connections.endsAccess'),
  nothing: $t('connections.nothing'),
  unclear: $t('connections.bothAtOnce'),
}
</script>

<template>
  <PageHead
    :title="$t('connections.whatEventsOfMean', { name: service?.name ?? '…' })"
    :about="$t('connections.forAccessTriedOnWhat')"
  >
    <RouterLink to="/connections">{{ $t('connections.connections') }}</RouterLink>
  </PageHead>
  <Oops :error="interfaces.error.value ?? meaning.error.value" />
  <div class="two">
    <form class="sheet" @submit.prevent="save.mutate()">
      <div v-for="f in fields" :key="f.name" class="line">
        <label :for="f.name">{{ f.title }}</label>
        <div>
          <Textarea
            :id="f.name"
            :ref="(el) => el && areas.set(f.name, (el as { $el: HTMLTextAreaElement }).$el)"
            v-model="mapping[f.name]"
            rows="1"
            spellcheck="false"
            :invalid="!!wrong[f.name]"
            :placeholder="f.about"
            @focus="last = f.name"
          />
          <small v-if="wrong[f.name]" class="problem" role="alert">{{ wrong[f.name] }}</small>
          <small v-else-if="example?.problems[f.name]" class="problem">{{ example.problems[f.name] }}</small>
          <small v-else-if="example && mapping[f.name]"
            ><span class="faint">{{ $t('connections.here') }}</span>
            <code>{{ example.values[f.name] || $t('connections.empty') }}</code></small
          >
          <small v-else class="faint">{{ f.about }}</small>
        </div>
      </div>
      <Oops :error="save.error.value" />
      <div class="actions">
        <Button
          type="submit"
          size="small"
          :label="$t('common.save')"
          :disabled="Object.keys(wrong).length > 0 || !service"
          :loading="save.isPending.value"
        />
        <span v-if="save.isSuccess.value" class="faint" role="status">{{
          $t('connections.savedWhatComesFromNow')
        }}</span>
      </div>
    </form>
    <aside>
      <h2>{{ example ? `${example.reported}, ${when(example.at)}` : $t('connections.noEventYet') }}</h2>
      <p v-if="!example" class="faint">{{ $t('connections.serviceHasReportedNothingYet') }}</p>
      <p v-else class="faint">
        {{ $t('connections.clickValueToPutIts', { title: fields.find((f) => f.name === last)?.title }) }}
      </p>
      <ul v-if="example" class="places">
        <li v-for="p in example.places" :key="p.path">
          <Button unstyled type="button" @click="put(p.path)">
            <code>{{ p.path }}</code>
            <span>{{ p.value }}</span>
          </Button>
        </li>
      </ul>
    </aside>
  </div>
  <h2 v-if="examples.length">
    {{ $t('connections.latestEventsReadLikeThis', { examples: examples.length }) }}
  </h2>
  <div class="over">
    <table v-if="examples.length" class="list">
      <thead>
        <tr>
          <th>{{ $t('connections.when') }}</th>
          <th>{{ $t('connections.reported') }}</th>
          <th>{{ $t('connections.whom') }}</th>
          <th>{{ $t('connections.offer') }}</th>
          <th>{{ $t('connections.order') }}</th>
          <th>{{ $t('connections.access') }}</th>
        </tr>
      </thead>
      <tbody>
        <tr
          v-for="(x, i) in examples"
          :key="x.eventId"
          :class="{ chosen: i === at }"
          tabindex="0"
          @click="at = i"
          @keydown.enter="at = i"
        >
          <td>{{ when(x.at) }}</td>
          <td>
            <code>{{ x.reported }}</code>
          </td>
          <td>
            {{ x.values.person || '?' }} <span v-if="x.known" class="faint">{{ x.known }}</span>
          </td>
          <td>
            {{ x.values.offer || '?' }} <span v-if="x.leads" class="faint">→ {{ x.leads }}</span>
          </td>
          <td>{{ x.values.order || '?' }}</td>
          <td :class="{ problem: x.means === 'unclear' }">{{ words[x.means] }}</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 26rem;
  gap: 1.5rem;
  align-items: start;
}

form {
  padding: 1rem;
}

aside h2 {
  margin-top: 0.3rem;
}

.line {
  display: grid;
  grid-template-columns: 10rem minmax(0, 1fr);
  gap: 0.8rem;
  margin-bottom: 0.6rem;
}

.line label {
  padding-top: 0.35rem;
  font-size: 0.9rem;
}

textarea {
  font-family: var(--mono);
  resize: vertical;
  width: 100%;
  field-sizing: content;
}

.problem {
  color: var(--signal);
  white-space: pre-wrap;
}

.places {
  list-style: none;
  margin: 0;
  padding: 0;
  max-height: 24rem;
  overflow: auto;
}

.places button {
  font: inherit;
  border: 0;
  border-bottom: 1px solid var(--hair);
  background: none;
  color: inherit;
  width: 100%;
  text-align: start;
  padding: 0.25rem 0.3rem;
  cursor: pointer;
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
  gap: 0.6rem;
}

.places button:hover {
  background: var(--hair);
}

.places span,
.places code {
  overflow-wrap: anywhere;
  font-size: 0.82rem;
}

.over {
  overflow-x: auto;
}

.list {
  width: 100%;
  border-collapse: collapse;
  font-size: 0.88rem;
}

.list th,
.list td {
  text-align: start;
  padding: 0.3rem 0.6rem;
  border-bottom: 1px solid var(--hair);
}

.list tbody tr {
  cursor: pointer;
}

.chosen {
  background: var(--hair);
}

@media (max-width: 1000px) {
  .two,
  .line {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
