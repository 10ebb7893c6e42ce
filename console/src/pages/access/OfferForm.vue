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
    :title="edit ? `Edit ${edit.name}` : 'Make an offer'"
    width="40rem"
    @close="emit('close')"
  >
    <form @submit.prevent="save.mutate()">
      <TextField id="offer-name" v-model="o.name" placeholder="What is sold" label="Name" />
      <div class="row">
        <ChoiceField
          id="shop"
          v-model="o.interfaceId"
          label="Sold by"
          :options="shops.map((c) => ({ value: c.id, label: c.name }))"
          :help="
            interfaces.data.value && !shops.length
              ? 'Connect a service that reports events first.'
              : undefined
          "
        />
        <TextField id="sold-as" v-model="o.offer" label="There it is called" />
      </div>
      <div class="field">
        <label for="by">Gives access to</label>
        <ChoiceField
          id="by"
          v-model="o.by"
          hidden
          label="Gives access to"
          :options="[
            { value: 'sections', label: 'these sections' },
            { value: 'course', label: 'the emptiest section of a course' },
          ]"
        />
        <SectionPick v-if="o.by === 'sections'" v-model="o.sectionIds!" label="Sections" />
        <div v-else class="row">
          <ChoiceField
            v-model="o.courseId"
            hidden
            label="Course"
            :options="(courses.data.value?.items ?? []).map((c) => ({ value: c.id, label: c.title }))"
          />
          <ChoiceField
            v-model="o.termRule"
            hidden
            label="Term"
            :options="[
              { value: 'current', label: 'in the term that runs' },
              { value: 'next', label: 'in the term that begins next' },
            ]"
          />
        </div>
      </div>
      <ChoiceField
        id="platform"
        v-model="o.platformId"
        label="People are enrolled through"
        :options="[
          { value: '', label: 'nobody is enrolled; it only shows' },
          ...platforms.map((c) => ({ value: c.id, label: c.name })),
        ]"
      />
      <div class="row">
        <NumberField
          id="grace"
          v-model="o.graceDays"
          :min="0"
          :max="366"
          label="Days of grace after its end"
        />
        <ChoiceField
          id="at-end"
          v-model="o.atEnd"
          label="Then"
          :options="[
            { value: 'unenrol', label: 'people are taken out' },
            { value: 'mark', label: 'people stay, and are marked' },
          ]"
        />
      </div>
      <TickField v-model="o.onlyBuyers" label="only buyers may be in the sections; others are shown" />
      <Oops :error="save.error.value" :over="(tag) => (made.over(tag), save.mutate())" />
      <div class="actions">
        <Button type="submit" label="Save" :loading="save.isPending.value" />
        <Button type="button" variant="text" label="Cancel" @click="emit('close')" />
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
