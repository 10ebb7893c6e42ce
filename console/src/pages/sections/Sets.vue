<script setup lang="ts">
import { useMutation, useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Checkbox from 'primevue/checkbox'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, ok, type Schemas } from '../../api/client'
import { useAddress } from '../../parts/address'
import TickField from '../../parts/form/TickField.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import { when } from '../../parts/when'
import { listed } from '../../parts/words'
import LeftGroups from './LeftGroups.vue'
import PutBackDialog from './PutBackDialog.vue'
import SetDialog from './SetDialog.vue'
import UnlinkDialog from './UnlinkDialog.vue'

/** Linked sets, and sections that could be linked. */
const router = useRouter()
const address = useAddress()
const unlinked = address.tick('unlinked')
const sets = useQuery({
  queryKey: ['sets', 'list', unlinked],
  queryFn: () => ok(api.GET('/api/v1/linked-sets', { params: { query: { unlinked: unlinked.value } } })),
})
const sameTeacher = address.tick('teacher', true)
const everything = address.tick('hidden')
const proposals = useQuery({
  queryKey: ['sets', 'proposals', sameTeacher, everything],
  queryFn: () =>
    ok(
      api.GET('/api/v1/linked-sets/proposals', {
        params: { query: { sameTeacher: sameTeacher.value, hidden: everything.value ? '*' : '' } },
      }),
    ),
})
const skipped = ref<string[]>([])
const items = computed(() => proposals.data.value?.items ?? [])
const wanted = computed(() => items.value.filter((p) => !skipped.value.includes(key(p))))
const key = (p: Schemas['SetProposal']) => p.sections.map((s) => s.id).join()
const look = useMutation({
  mutationFn: () =>
    ok(
      api.POST('/api/v1/batches', {
        body: {
          act: 'link',
          sets: wanted.value.map((p) => ({
            leadId: p.sections[0]!.id,
            sections: p.sections.slice(1).map((s) => s.id),
            name: p.name,
          })),
        },
      }),
    ),
  onSuccess: (b) => router.push(`/batches/${b.id}`),
})
/** What all sections of a proposal have, or what each has. */
const named = (list: string[]) => [...new Set(list)].join(', ')
const changing = ref<Schemas['LinkedSet']>()
const copy = ref<Schemas['CopyRef']>()
const unlinking = ref<Schemas['LinkedSet']>()

function skip(p: Schemas['SetProposal']) {
  const k = key(p)
  skipped.value = skipped.value.includes(k) ? skipped.value.filter((x) => x !== k) : [...skipped.value, k]
}
</script>

<template>
  <PageHead :title="$t('common.linkedSets')" :about="$t('sections.sectionsOfOneCourseAnd')">
    <TickField v-model="unlinked" :label="$t('sections.thoseThatWereUnlinked')" />
    <RouterLink to="/sections">{{ $t('sections.allSections') }}</RouterLink>
  </PageHead>
  <Oops :error="sets.error.value ?? proposals.error.value ?? look.error.value" />
  <p v-if="sets.data.value && !sets.data.value.length" class="sheet empty faint">
    <template v-if="unlinked">{{ $t('sections.nothingWasUnlinked') }}</template>
    <template v-else>{{ $t('sections.nothingIsLinkedYetTake') }}</template>
  </p>
  <div class="sets">
    <section v-for="s in sets.data.value" :key="s.id" class="sheet set">
      <h2>{{ s.name }}</h2>
      <ul>
        <li v-for="x in s.sections" :key="x.id">
          {{ x.title }}
          <span class="faint">{{
            $t('sections.codeAndLearners', { code: x.code, learners: x.learners })
          }}</span>
          <span v-if="x.id === s.leadId" class="faint">{{ ' ' }}{{ $t('sections.leadSign') }}</span>
          <span v-if="x.gone" class="bad">{{ ' ' }}{{ $t('sections.noLongerInRegister') }}</span>
        </li>
      </ul>
      <p class="faint small">
        {{ $t('sections.linkedBy', { madeBy: s.madeBy, createdAt: when(s.createdAt) }) }}
        <template v-if="s.unlinkedAt">{{
          $t('sections.unlinked', { unlinkedAt: when(s.unlinkedAt) })
        }}</template>
        <template v-if="s.reason">{{ $t('sections.because', { reason: s.reason }) }}</template>
        <template v-for="t in s.targets" :key="t.pairingId"
          >{{ ' '
          }}<i18n-t keypath="sections.oneClass" scope="global"
            ><template #target
              ><RouterLink :to="`/pairings/${t.pairingId}`">{{ t.target }}</RouterLink></template
            ></i18n-t
          >{{ ' ' }}</template
        >
      </p>
      <p v-for="(c, i) in s.copies" :key="c.id" class="faint small copy">
        <span
          ><i18n-t keypath="sections.ofPeopleResults" scope="global"
            ><template #i
              ><a :href="`/api/v1/safety-copies/${c.id}`" download>{{
                i ? $t('sections.earlierCopy') : $t('sections.safetyCopy')
              }}</a></template
            ><template #createdAt>{{ when(c.createdAt) }}</template
            ><template #people>{{ c.people }}</template
            ><template #results>{{ c.results }}</template></i18n-t
          ></span
        >
        <Button size="small" variant="text" :label="$t('sections.putBackDialog')" @click="copy = c" />
      </p>
      <div v-if="!s.unlinkedAt" class="row">
        <Button size="small" variant="outlined" :label="$t('sections.changeDialog')" @click="changing = s" />
        <Button size="small" variant="outlined" :label="$t('sections.unlink')" @click="unlinking = s" />
      </div>
    </section>
  </div>
  <div class="head">
    <h2>{{ $t('sections.couldBeLinked') }}</h2>
    <TickField v-model="sameTeacher" :label="$t('sections.onlyWithSameTeacher')" />
    <TickField
      v-if="everything || proposals.data.value?.hidden"
      v-model="everything"
      :label="
        $t('sections.thoseThatListsHide', {
          hidden: proposals.data.value?.hidden ? `(${proposals.data.value.hidden})` : '',
        })
      "
    />
    <Button
      v-if="wanted.length"
      size="small"
      :label="$t('sections.showWhatLinkingThisOne', { wanted: wanted.length }, wanted.length)"
      :loading="look.isPending.value"
      @click="look.mutate()"
    />
  </div>
  <p v-if="proposals.data.value && !items.length" class="faint">
    {{
      $t('sections.noUnlinkedSectionsOfOne', {
        sameTeacher: sameTeacher ? $t('sections.shareTeacher') : $t('sections.areLeft'),
      })
    }}
  </p>
  <ul class="proposals">
    <li v-for="p in items" :key="key(p)">
      <label>
        <Checkbox
          :model-value="!skipped.includes(key(p))"
          binary
          :aria-label="p.name"
          @update:model-value="skip(p)"
        />
        <b>{{ p.name }}</b> {{ p.sections.map((s) => s.title).join(', ') }}
        <span class="faint"
          >{{ p.sections[0]!.terms.join(', ') }} · {{ named(p.sections.map((s) => s.school ?? '')) }} ·
          {{ named(p.sections.flatMap((s) => s.teachers)) }}</span
        >
        <small v-if="p.sharedTeachers.length" class="shared">{{
          $t('sections.nobodyTeachesAllOfThem', {
            sharedTeachers: p.sharedTeachers
              .map((t) => $t('sections.teaches', { teacher: t.teacher, sections: listed(t.sections) }))
              .join('; '),
          })
        }}</small>
      </label>
    </li>
  </ul>
  <LeftGroups />
  <SetDialog v-if="changing" :set="changing" @close="changing = undefined" />
  <PutBackDialog v-if="copy" :copy="copy" @close="copy = undefined" />
  <UnlinkDialog v-if="unlinking" :set="unlinking" @close="unlinking = undefined" />
</template>

<style scoped>
.sets {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(30rem, 1fr));
  gap: 1rem;
}

.set {
  padding: 0.7rem 1rem;
}

h2 {
  margin: 0;
}

.set ul,
.proposals {
  list-style: none;
  padding: 0;
  margin: 0.4rem 0;
}

.set li,
.proposals li {
  padding: 0.2rem 0;
  border-bottom: 1px solid var(--hair);
}

.row,
.head {
  display: flex;
  gap: 1rem;
  align-items: center;
}

.row {
  justify-content: flex-end;
}

.copy {
  display: flex;
  justify-content: space-between;
  align-items: center;
  margin: 0;
}

.head {
  margin-top: 1.6rem;
}

.proposals label {
  display: block;
}

.proposals label :deep(.p-checkbox) {
  margin-inline-end: 0.4rem;
  vertical-align: middle;
}

.shared {
  display: block;
  padding-inline-start: 1.6rem;
}

.small {
  font-size: 12.5px;
}

.empty {
  padding: 1.2rem;
}

.bad {
  color: var(--signal);
}
</style>
