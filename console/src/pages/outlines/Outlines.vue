<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, ref, watch, type Ref } from 'vue'

import { api, ifMatch, ok, Problem, tagOf, type Schemas } from '../../api/client'
import Fold from '../../parts/Fold.vue'
import FileField from '../../parts/form/FileField.vue'
import TextField from '../../parts/form/TextField.vue'
import { useUnsaved } from '../../parts/form/typed'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import { unzipped } from '../../parts/zip'
import { $t } from '../../texts'
import Across from './Across.vue'
import OutlineTree from './OutlineTree.vue'
import Verbs from './Verbs.vue'

/** How many courses are listed at once. */
const mostCourses = 200

/** What courses consist of: read, edited, previewed, then kept. */
const props = defineProps<{ id?: string }>()
const queries = useQueryClient()
const courses = useQuery({ queryKey: ['courses'], queryFn: () => ok(api.GET('/api/v1/courses')) })
const chosen = computed(() => props.id || courses.data.value?.items.find((c) => c.activities)?.id)
const kept = useQuery({
  queryKey: ['outline', chosen],
  queryFn: async () => {
    const got = ok(api.GET('/api/v1/courses/{id}/outline', { params: { path: { id: chosen.value ?? '' } } }))
    return got.catch((e: unknown) => {
      if (e instanceof Problem && e.status === 404) return { modules: [] } as Schemas['Outline']
      throw e
    })
  },
  structuralSharing: false,
  enabled: computed(() => !!chosen.value),
})
const draft: Ref<Schemas['Outline']> = ref({ modules: [] })
const changed = ref(false)
const from = ref('') // the state from which it is edited
const many = ref(20) // how many of those whom a change touches are shown
useUnsaved(() => changed.value)
// A course is found by a part of its title, once there are many.
const wanted = ref('')
const listed = computed(() => {
  const text = wanted.value.trim().toLowerCase()
  const all = courses.data.value?.items ?? []
  return text ? all.filter((c) => `${c.title} ${c.code}`.toLowerCase().includes(text)) : all
})
watch(
  () => kept.data.value,
  (o) => {
    if (!o || changed.value) return
    draft.value = JSON.parse(JSON.stringify(o)) as Schemas['Outline']
    from.value = tagOf(o)
  },
  { immediate: true },
)
watch(chosen, () => (changed.value = false))
const at = computed(() => ({ params: { path: { id: chosen.value ?? '' } } }))
const prefix = ref('')
const address = ref('')
const reading = useMutation({
  mutationFn: (body: Schemas['OutlineSource']) => ok(api.POST('/api/v1/outlines/read', { body })),
  onSuccess: (o) => {
    draft.value = { ...o, percentages: draft.value.percentages }
    changed.value = true
    previewing.reset()
  },
})
const previewing = useMutation({
  mutationFn: () => ok(api.POST('/api/v1/courses/{id}/outline/preview', { ...at.value, body: draft.value })),
})
const keeping = useMutation({
  mutationFn: () =>
    ok(
      api.PUT('/api/v1/courses/{id}/outline', {
        params: {
          path: { id: chosen.value ?? '' },
          header: ifMatch(from.value),
        },
        body: draft.value,
      }),
    ),
  onSuccess: async () => {
    changed.value = false
    previewing.reset()
    await queries.invalidateQueries({ queryKey: ['outline'] })
    await queries.invalidateQueries({ queryKey: ['courses'] })
  },
})
const busy = computed(() => reading.isPending.value)
const looking = computed(() => previewing.isPending.value)
const previewed = computed(() => previewing.data.value)
const unreadable = ref<Error>()
const problem = computed(
  () => unreadable.value ?? reading.error.value ?? previewing.error.value ?? keeping.error.value,
)
const fetchIt = () => reading.mutate({ kind: 'address', address: address.value, prefix: prefix.value })
const look = () => previewing.mutate()
const keep = () => keeping.mutate()
async function upload([file]: File[]) {
  if (!file) return
  unreadable.value = undefined
  const name = file.name.toLowerCase()
  const text = /\.(imscc|zip)$/.test(name) ? await unzipped(file, 'imsmanifest.xml') : await file.text()
  if (text === undefined) unreadable.value = new Error($t('outlines.noManifest', { name: file.name }))
  else reading.mutate({ kind: name.endsWith('.csv') ? 'table' : 'manifest', text, prefix: prefix.value })
}
function edited() {
  changed.value = true
  previewing.reset()
}
</script>

<template>
  <PageHead :title="$t('outlines.outlines')" :about="$t('outlines.whatCoursesConsistOfBy')">
    <a v-if="kept.data.value?.modules.length" :href="`/api/v1/courses/${chosen}/outline.csv`" download>{{
      $t('outlines.asTableCsv')
    }}</a>
  </PageHead>
  <Across />
  <Fold :title="$t('outlines.whatVerbsOfPlatformsMean')"><Verbs /></Fold>
  <div class="two">
    <nav :aria-label="$t('outlines.courses')">
      <Oops :error="courses.error.value" :again="courses.refetch" />
      <p v-if="courses.data.value && !courses.data.value.items.length" class="faint">
        <i18n-t keypath="outlines.noCourseHasBeenRead" scope="global"
          ><template #readRegister
            ><RouterLink to="/connections">{{ $t('outlines.readRegister') }}</RouterLink></template
          ></i18n-t
        >
      </p>
      <TextField
        v-if="(courses.data.value?.items.length ?? 0) > 12"
        v-model="wanted"
        type="search"
        :placeholder="$t('outlines.findCourse')"
        hidden
        :label="$t('outlines.findCourse')"
      />
      <RouterLink
        v-for="c in listed.slice(0, mostCourses)"
        :key="c.id"
        :to="`/outlines/${c.id}`"
        :class="{ here: c.id === chosen }"
        >{{ c.title }}
        <span class="faint">{{
          c.activities ? $t('outlines.activities', { activities: c.activities }) : $t('outlines.noOutline')
        }}</span></RouterLink
      >
      <span v-if="listed.length > mostCourses" class="faint">{{
        $t('outlines.moreTypePartOfTitle', { listed: (listed.length - mostCourses).toLocaleString() })
      }}</span>
    </nav>
    <section v-if="chosen && kept.error.value">
      <Oops :error="kept.error.value" :again="kept.refetch" />
    </section>
    <p v-else-if="chosen && !kept.data.value" class="faint" aria-busy="true">{{ $t('outlines.looking') }}</p>
    <section v-else-if="chosen">
      <p v-if="draft.learned" class="sheet note">{{ $t('outlines.putTogetherFromWhatWas') }}</p>
      <OutlineTree v-model="draft" @edited="edited" />
      <div class="sheet bar">
        <FileField
          :label="$t('outlines.packageManifestOrTableImscc')"
          accept=".imscc,.zip,.xml,.csv"
          @choose="upload"
        />
        <TextField
          v-model="address"
          :label="$t('outlines.orAddress')"
          placeholder="https://…/imsmanifest.xml"
        />
        <TextField
          v-model="prefix"
          :label="$t('outlines.whatStandsBeforeIdentifiers')"
          placeholder="https://platform.example/activities/"
        />
        <Button
          size="small"
          variant="outlined"
          :label="$t('common.readIt')"
          :disabled="!address"
          :loading="busy"
          @click="fetchIt"
        />
      </div>
      <Oops :error="problem" :over="(tag) => ((from = tag), keep())" />
      <div class="actions">
        <Button
          size="small"
          variant="outlined"
          :label="$t('outlines.whomWouldItCompleteOr')"
          :loading="looking"
          @click="look"
        />
        <Button
          size="small"
          :label="$t('common.save')"
          :disabled="!changed && !draft.learned"
          @click="keep"
        />
      </div>
      <div v-if="previewed" class="sheet note" role="status">
        <b>{{
          $t('outlines.peopleHaveProgressCourseWould', {
            people: previewed.people,
            completes: previewed.completes,
            reopens: previewed.reopens,
          })
        }}</b>
        <p v-for="text in previewed.misses" :key="text" class="lost">
          {{ $t('outlines.notInItAnyMore', { text }) }}
        </p>
        <p v-for="t in previewed.touched.slice(0, many)" :key="t.personId + t.section">
          {{ t.person }}, {{ t.section }}: {{ t.before }} % → {{ t.after }} %
          <span class="faint"
            ><template v-if="t.completed?.length"
              >{{ $t('outlines.done', { completed: t.completed.join(', ') }) }} </template
            ><template v-if="t.reopened?.length">{{
              $t('outlines.openAgain', { reopened: t.reopened.join(', ') })
            }}</template></span
          >
        </p>
        <Button
          v-if="previewed.touched.length > many"
          size="small"
          variant="text"
          :label="$t('outlines.showAll', { touched: previewed.touched.length })"
          @click="many = previewed.touched.length"
        />
        <p v-else-if="previewed.touched.length === 500" class="faint">
          {{ $t('outlines.onlyFirst500PeopleAre') }}
        </p>
      </div>
    </section>
  </div>
</template>

<style scoped>
.lost {
  color: var(--signal);
  font-weight: 600;
}

.two {
  display: grid;
  grid-template-columns: 14rem minmax(0, 1fr);
  gap: 1.5rem;
}

nav {
  display: grid;
  align-content: start;
  gap: 0.3rem;
}

nav a {
  text-decoration: none;
  padding: 0.2rem 0.6rem;
  border-inline-start: 3px solid transparent;
  display: grid;
}

nav a.here {
  border-inline-start-color: var(--signal);
}

.bar {
  display: flex;
  gap: 1rem;
  align-items: flex-end;
  padding: 0.6rem 1rem;
  margin: 0.6rem 0;
}

.bar label {
  display: grid;
  font-size: 12.5px;
}

.note {
  padding: 0.5rem 1rem;
  margin: 0.5rem 0;
}

@media (max-width: 1000px) {
  .two {
    grid-template-columns: minmax(0, 1fr);
  }

  nav {
    grid-template-columns: repeat(auto-fill, minmax(12rem, 1fr));
  }

  .bar {
    flex-wrap: wrap;
  }
}
</style>
