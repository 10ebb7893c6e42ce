<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Column from 'primevue/column'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, every, ok, type Schemas } from '../../api/client'
import { useAddress } from '../../parts/address'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import TickField from '../../parts/form/TickField.vue'
import Fold from '../../parts/Fold.vue'
import Listing from '../../parts/Listing.vue'
import Oops from '../../parts/Oops.vue'
import PageHead from '../../parts/PageHead.vue'
import Pager from '../../parts/Pager.vue'
import { when } from '../../parts/when'
import { $t } from '../../texts'
import StagePlanForm from './StagePlanForm.vue'
import SwitchDialog from './SwitchDialog.vue'

/** How far a group has come along the stages, and who stands where. */
const props = defineProps<{ id: string }>()
const queries = useQueryClient()
const router = useRouter()
const path = computed(() => ({ id: props.id }))
const one = useQuery({
  queryKey: ['stage-plans', () => props.id],
  queryFn: () => ok(api.GET('/api/v1/stage-plans/{id}', { params: { path: path.value } })),
})
const p = computed(() => one.data.value)
const section = useAddress().kept('section')
const sections = useQuery({
  queryKey: ['sections', 'of-course', () => p.value?.courseId],
  queryFn: () =>
    every((cursor) =>
      ok(
        api.GET('/api/v1/sections', {
          params: { query: { course: p.value!.courseId, hidden: '*', limit: 1000, cursor } },
        }),
      ),
    ),
  enabled: computed(() => !!p.value),
})
const group = useQuery({
  queryKey: ['group', () => props.id, section],
  queryFn: () =>
    ok(
      api.GET('/api/v1/stage-plans/{id}/group', {
        params: { path: path.value, query: { section: section.value || undefined, stuckDays } },
      }),
    ),
})
const g = computed(() => group.data.value)
/** The map is drawn anew whenever the group was counted anew. */
const forms = ['svg', 'png', 'pdf'] as const
const mapAt = (form: (typeof forms)[number]) =>
  `/api/v1/stage-plans/${props.id}/map.${form}?section=${section.value ?? ''}&at=${group.dataUpdatedAt.value}`

type Chosen = {
  title: string
  reached?: string
  at?: string
  /** At it for so many days or longer. */
  days?: number
  state?: 'not-opened' | 'finished'
}
/** Whom the list below shows; everybody when undefined. */
const chosen = ref<Chosen>()
const cursor = ref<string[]>([])
watch([chosen, section], () => (cursor.value = []))
/** Whoever is at a stage for so many days is stuck. */
const stuckDays = 14
const people = useQuery({
  queryKey: ['stage-plan-people', () => props.id, section, chosen, cursor],
  queryFn: () =>
    ok(
      api.GET('/api/v1/stage-plans/{id}/people', {
        params: {
          path: path.value,
          query: {
            section: section.value || undefined,
            reached: chosen.value?.reached,
            at: chosen.value?.at,
            atForDays: chosen.value?.days,
            state: chosen.value?.state,
            cursor: cursor.value.at(-1),
            limit: 50,
          },
        },
      }),
    ),
})
const rows = computed(() => people.data.value?.items.map((x) => ({ id: x.personId, ...x })))
const dayCount = (n: number) => (n < 1 ? $t('stages.underADay') : $t('stages.days', { n }, n))
const share = (n: number) => (g.value?.people ? (100 * n) / g.value.people : 0)

/** What somebody has to approve in the stage that is chosen. */
const approvals = computed(() => {
  const all = (list: Schemas['Criterion'][]): Schemas['Criterion'][] =>
    list.flatMap((c) => (c.kind === 'approval' ? [c] : all(c.of ?? [])))
  return all(p.value?.stages.find((s) => s.id === chosen.value?.at)?.criteria ?? [])
})
const picked = ref<string[]>([])
watch([chosen, section, cursor], () => (picked.value = []))
const approve = useMutation({
  mutationFn: (approvalId: string) =>
    ok(
      api.POST('/api/v1/stage-plans/{id}/approvals', {
        params: { path: path.value },
        body: { approvalId, people: picked.value },
      }),
    ),
  onSuccess: () => {
    picked.value = []
    return queries.invalidateQueries()
  },
})

const editing = ref(false)
const switching = ref(false)
const off = useMutation({
  mutationFn: () =>
    ok(api.POST('/api/v1/stage-plans/{id}/switch', { params: { path: path.value }, body: { on: false } })),
  onSettled: () => queries.invalidateQueries(),
})
const remove = useMutation({
  mutationFn: () => ok(api.DELETE('/api/v1/stage-plans/{id}', { params: { path: path.value } })),
  onSuccess: async () => {
    await router.push('/stage-plans')
    await queries.invalidateQueries()
  },
})
</script>

<template>
  <Oops :error="one.error.value" :again="one.refetch" />
  <template v-if="p && group.isFetched.value">
    <PageHead :title="p.name">
      <template #about
        >{{ p.course }} · <template v-if="p.anyOrder">{{ $t('stages.inAnyOrder') }} · </template>
        <template v-if="p.onSince">{{
          $t('stages.onSince', { onSince: when(p.onSince) })
        }}</template><template v-else>{{ $t('stages.offNothingIsWorkedOut') }}</template></template
      >
      <ChoiceField
        v-model="section"
        hidden
        :label="$t('common.section')"
        :options="[
          { value: '', label: $t('stages.allSections') },
          ...(sections.data.value ?? []).map((x) => ({ value: x.id, label: x.title })),
        ]"
      />
      <Button size="small" variant="outlined" :label="$t('common.edit')" @click="editing = true" />
      <Button
        v-if="!p.onSince"
        size="small"
        variant="outlined"
        :label="$t('common.remove')"
        @click="remove.mutate()"
      />
      <Button
        v-if="p.onSince"
        size="small"
        variant="outlined"
        :label="$t('stages.switchOff')"
        @click="off.mutate()"
      />
      <Button v-else size="small" :label="$t('stages.switchOn')" @click="switching = true" />
    </PageHead>
    <Oops :error="group.error.value ?? off.error.value ?? remove.error.value" />
    <div v-if="g" class="sheet plan">
      <Button
        unstyled
        type="button"
        class="line"
        :class="{ here: chosen?.state === 'not-opened' }"
        @click="chosen = { title: 'who never opened the course', state: 'not-opened' }"
      >
        <span class="title">{{ $t('stages.neverOpened') }}</span>
        <span class="bar"><i class="never" :style="{ width: `${share(g.notOpened)}%` }" /></span>
        <b>{{ g.notOpened }}</b>
        <span class="faint">{{ $t('stages.ofWhoLearnInCourse', { people: g.people }) }}</span>
      </Button>
      <div v-for="(s, i) in g.stages" :key="s.stageId" class="line">
        <span class="title"
          ><span class="faint">{{ i + 1 }}</span> {{ s.title }}
          <span v-if="s.optional" class="faint">{{ $t('stages.optional') }}</span>
          <small class="faint"
            >{{ s.takes.join('; ')
            }}<template v-if="s.badge"
              >{{ ' ' }}{{ $t('stages.givesBadge', { badge: s.badge }) }}</template
            ></small
          >
          <small class="times faint">
            <template v-if="s.medianDays !== undefined">{{
              $t('stages.median', { days: dayCount(s.medianDays), n: s.took })
            }}</template>
            <Button
              v-if="s.stuck"
              unstyled
              type="button"
              :class="{ here: chosen?.days && chosen.at === s.stageId }"
              @click="
                chosen = {
                  title: $t('stages.whoIsStuck', { title: s.title, days: stuckDays }),
                  at: s.stageId,
                  days: stuckDays,
                }
              "
              >{{ $t('stages.stuck', { n: s.stuck, longest: dayCount(s.longestDays ?? 0) }) }}</Button
            >
          </small>
        </span>
        <span class="bar"><i :style="{ width: `${share(s.reached)}%` }" /></span>
        <Button
          unstyled
          type="button"
          :class="{ here: chosen?.reached === s.stageId }"
          @click="chosen = { title: `who reached ${s.title}`, reached: s.stageId }"
        >
          <b>{{ s.reached }}</b><span class="aside"
            >{{ ' ' }}{{ $t('stages.reached', { title: s.title }) }}</span
          >
        </Button>
        <Button
          v-if="!s.optional"
          unstyled
          type="button"
          :class="{ here: chosen?.at === s.stageId && !chosen.days }"
          @click="
            chosen = {
              title: p.anyOrder
                ? $t('stages.whoHasNotReached', { title: s.title })
                : `for whom ${s.title} is next`,
              at: s.stageId,
            }
          "
        >
          <i18n-t v-if="p.anyOrder" keypath="stages.openFor" scope="global"
            ><template #apart
              ><span class="aside">{{ $t('stages.is', { title: s.title }) }}{{ ' ' }}</span></template
            ><template #at>{{ s.at }}</template></i18n-t
          >
          <i18n-t v-else keypath="stages.nextFor" scope="global"
            ><template #apart
              ><span class="aside">{{ $t('stages.is', { title: s.title }) }}{{ ' ' }}</span></template
            ><template #at>{{ s.at }}</template></i18n-t
          >
        </Button>
        <span v-else />
      </div>
      <Button
        unstyled
        type="button"
        class="line"
        :class="{ here: chosen?.state === 'finished' }"
        @click="chosen = { title: 'who finished', state: 'finished' }"
      >
        <span class="title">{{ $t('stages.finished') }}</span>
        <span class="bar"><i :style="{ width: `${share(g.finished)}%` }" /></span>
        <b>{{ g.finished }}</b>
        <span class="faint">{{ $t('stages.everyRequiredStage') }}</span>
      </Button>
    </div>
    <Fold v-if="g" class="mapped" :title="$t('stages.map')">
      <img :src="mapAt('svg')" :alt="$t('stages.mapOf', { name: p.name })" class="map" />
      <p class="forms">
        <a v-for="form in forms" :key="form" :href="mapAt(form)" :download="`stages.${form}`">{{
          form.toUpperCase()
        }}</a>
      </p>
    </Fold>
    <div class="top">
      <h2>{{ $t('stages.people', { chosen: chosen ? ` ${chosen.title}` : '' }) }}</h2>
      <Button v-if="chosen" unstyled type="button" @click="chosen = undefined">{{
        $t('stages.showEverybody')
      }}</Button>
    </div>
    <Oops :error="approve.error.value" />
    <div v-if="approvals.length && rows?.length" class="approve">
      <span class="faint">{{ $t('stages.tickWhom') }}</span>
      <Button
        v-for="a in approvals"
        :key="a.approvalId"
        size="small"
        :disabled="!picked.length"
        :loading="approve.isPending.value"
        :label="$t('stages.approveFor', { what: a.what, n: picked.length }, picked.length)"
        @click="approve.mutate(a.approvalId!)"
      />
    </div>
    <Listing
      :rows="rows"
      :loading="people.isLoading.value"
      :error="people.error.value"
      :again="people.refetch"
      :empty="$t('stages.nobody')"
    >
      <Column v-if="approvals.length">
        <template #body="{ data }"
          ><TickField
            :model-value="picked.includes(data.personId)"
            hidden
            :label="$t('stages.tick', { name: data.person })"
            @update:model-value="
              (on) => (picked = on ? [...picked, data.personId] : picked.filter((x) => x !== data.personId))
            "
        /></template>
      </Column>
      <Column :header="$t('common.person')">
        <template #body="{ data }"
          ><RouterLink :to="`/people/${data.personId}`">{{ data.person }}</RouterLink></template
        >
      </Column>
      <Column field="sections" :header="$t('common.sections')" />
      <Column :header="$t('common.done')"
        ><template #body="{ data }">{{ data.percent }} %</template></Column
      >
      <Column :header="$t('stages.reachedColumn')"
        ><template #body="{ data }">{{ data.reached.join(', ') }}</template></Column
      >
      <Column :header="$t('stages.next')"
        ><template #body="{ data }">{{ data.next || $t('stages.finishedWord') }}</template></Column
      >
      <Column :header="$t('stages.since')">
        <template #body="{ data }"
          ><span class="faint">{{ data.next ? when(data.since) : '' }}</span></template
        >
      </Column>
      <Column :header="$t('stages.lastActive')">
        <template #body="{ data }"
          ><span class="faint">{{ data.lastAt ? when(data.lastAt) : $t('common.never') }}</span></template
        >
      </Column>
    </Listing>
    <Pager
      v-model="cursor"
      :next="people.data.value?.next"
      :back="$t('stages.back')"
      :on="$t('stages.more')"
    />
    <StagePlanForm v-if="editing" :edit="p" @close="editing = false" />
    <SwitchDialog v-if="switching" :plan="p" @close="switching = false" />
  </template>
</template>

<style scoped>
.mapped {
  margin: 1rem 0;
}

.forms {
  display: flex;
  gap: 1rem;
}

.map {
  display: block;
  width: 100%;
  max-width: 52rem;
  border: 1px solid var(--line);
}

.plan {
  padding: 0.4rem 0;
}

.plan button,
.top button {
  font: inherit;
  color: inherit;
  border: 0;
  background: none;
  cursor: pointer;
  text-align: start;
  padding: 0;
}

.plan .line {
  display: grid;
  grid-template-columns: minmax(14rem, 26rem) minmax(8rem, 1fr) 3rem 16rem;
  gap: 0 0.9rem;
  align-items: center;
  width: 100%;
  padding: 0.4rem 1rem;
  text-align: start;
}

.times button {
  color: var(--signal);
}

.approve {
  display: flex;
  gap: 0.8rem;
  align-items: center;
  flex-wrap: wrap;
  margin: 0.4rem 0;
}

.title small {
  display: block;
}

.bar {
  background: var(--hair);
  height: 10px;
}

.bar i {
  display: block;
  height: 100%;
  background: var(--calm);
}

.bar .never {
  background: var(--faint);
}

.line > button,
.times button,
.top button {
  text-decoration: underline;
  text-decoration-color: var(--line);
  text-underline-offset: 3px;
}

.plan button:hover,
.top button:hover,
.here {
  text-decoration-color: currentColor;
}

button.line:hover,
button.line.here {
  background: var(--hair);
}

.top {
  display: flex;
  gap: 1.2rem;
  align-items: baseline;
}

@media (max-width: 900px) {
  .plan .line {
    grid-template-columns: minmax(0, 1fr) 4rem 3rem 6rem;
  }
}
</style>
