<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, reactive } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import { useVersion } from '../../parts/draft'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import Frame from '../../parts/form/Frame.vue'
import NumberField from '../../parts/form/NumberField.vue'
import TextField from '../../parts/form/TextField.vue'
import TickField from '../../parts/form/TickField.vue'
import Oops from '../../parts/Oops.vue'
import SectionPick from '../../parts/SectionPick.vue'
import { useInterfaces } from '../connections/interface'

/** Making or changing an offer. */
const props = defineProps<{ edit?: Schemas['Offer']; offer?: string; interfaceId?: string }>()
const emit = defineEmits<{ close: [] }>()
const queries = useQueryClient()
const made = useVersion(props.edit?.version)
const o = reactive<Schemas['NewOffer'] & { by: 'sections' | 'course' }>({
  name: props.edit?.name ?? '',
  interfaceId: props.edit?.interfaceId ?? props.interfaceId ?? '',
  offer: props.edit?.offer ?? props.offer ?? '',
  sectionIds: [...(props.edit?.sectionIds ?? [])],
  courseId: props.edit?.courseId ?? '',
  termRule: props.edit?.termRule || 'current',
  platformId: props.edit?.platformId ?? '',
  graceDays: props.edit?.graceDays ?? 0,
  atEnd: props.edit?.atEnd ?? 'unenrol',
  onlyBuyers: props.edit?.onlyBuyers ?? false,
  by: props.edit?.courseId ? 'course' : 'sections',
})
const interfaces = useInterfaces()
const courses = useQuery({ queryKey: ['courses'], queryFn: () => ok(api.GET('/api/v1/courses')) })
const of = (...kinds: string[]) =>
  computed(() => interfaces.data.value?.items.filter((c) => kinds.includes(c.kind)) ?? [])
const shops = of('cloudevents')
const platforms = of('scim', 'oneroster-delta')
const save = useMutation({
  mutationFn: () => {
    const { by, ...rest } = o
    const body: Schemas['NewOffer'] = {
      ...rest,
      graceDays: Number(o.graceDays),
      platformId: o.platformId || undefined,
      sectionIds: by === 'sections' ? o.sectionIds : [],
      courseId: by === 'course' ? o.courseId : undefined,
      termRule: by === 'course' ? o.termRule : undefined,
    }
    return props.edit
      ? ok(
          api.PUT('/api/v1/offers/{id}', {
            params: { path: { id: props.edit.id }, header: made.header.value },
            body,
          }),
        )
      : ok(api.POST('/api/v1/offers', { body }))
  },
  onSuccess: async () => {
    await queries.invalidateQueries()
    emit('close')
  },
})
</script>

<template>
  <Frame
    :of="save"
    :title="edit ? $t('common.editName', { name: edit.name }) : $t('access.newOffer')"
    width="40rem"
    @close="emit('close')"
  >
    <form @submit.prevent="save.mutate()">
      <TextField
        id="offer-name"
        v-model="o.name"
        name="name"
        :placeholder="$t('access.whatIsSold')"
        :label="$t('common.name')"
      />
      <div class="row">
        <ChoiceField
          id="shop"
          v-model="o.interfaceId"
          name="interfaceId"
          :label="$t('access.soldBy')"
          :options="shops.map((c) => ({ value: c.id, label: c.name }))"
          :help="
            interfaces.data.value && !shops.length ? $t('access.connectServiceThatReportsEvents') : undefined
          "
        />
        <TextField id="sold-as" v-model="o.offer" name="offer" :label="$t('access.thereItIsCalled')" />
      </div>
      <div class="field">
        <label for="by">{{ $t('access.givesAccessTo') }}</label>
        <ChoiceField
          id="by"
          v-model="o.by"
          hidden
          :label="$t('access.givesAccessTo')"
          :options="[
            { value: 'sections', label: $t('access.theseSections') },
            { value: 'course', label: $t('access.emptiestSectionOfCourse') },
          ]"
        />
        <SectionPick v-if="o.by === 'sections'" v-model="o.sectionIds!" :label="$t('common.sections')" />
        <div v-else class="row">
          <ChoiceField
            v-model="o.courseId"
            name="courseId"
            hidden
            :label="$t('common.course')"
            :options="(courses.data.value?.items ?? []).map((c) => ({ value: c.id, label: c.title }))"
          />
          <ChoiceField
            v-model="o.termRule"
            name="termRule"
            hidden
            :label="$t('access.term')"
            :options="[
              { value: 'current', label: $t('access.inTermThatRuns') },
              { value: 'next', label: $t('access.inTermThatBeginsNext') },
            ]"
          />
        </div>
      </div>
      <ChoiceField
        id="platform"
        v-model="o.platformId"
        name="platformId"
        :label="$t('access.peopleAreEnrolledThrough')"
        :options="[
          { value: '', label: $t('access.nobodyIsEnrolledItOnly') },
          ...platforms.map((c) => ({ value: c.id, label: c.name })),
        ]"
      />
      <div class="row">
        <NumberField
          id="grace"
          v-model="o.graceDays"
          name="graceDays"
          :min="0"
          :max="366"
          :label="$t('access.daysOfGraceAfterIts')"
        />
        <ChoiceField
          id="at-end"
          v-model="o.atEnd"
          name="atEnd"
          :label="$t('access.then')"
          :options="[
            { value: 'unenrol', label: $t('access.peopleAreTakenOut') },
            { value: 'mark', label: $t('access.peopleStayAndAreMarked') },
          ]"
        />
      </div>
      <TickField v-model="o.onlyBuyers" :label="$t('access.onlyBuyersMayBeIn')" />
      <Oops :error="save.error.value" :over="(tag) => (made.over(tag), save.mutate())" />
      <div class="actions">
        <Button type="submit" :label="$t('common.save')" :loading="save.isPending.value" />
        <Button type="button" variant="text" :label="$t('common.cancel')" @click="emit('close')" />
      </div>
    </form>
  </Frame>
</template>

<style scoped>
.row {
  display: flex;
  gap: 1rem;
}

.row > * {
  flex: 1;
}

.actions {
  margin-top: 1rem;
}
</style>
