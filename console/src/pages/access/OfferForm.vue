<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import { computed, reactive } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import { useVersion } from '../../parts/draft'
import Oops from '../../parts/Oops.vue'
import SectionPick from '../../parts/SectionPick.vue'

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
const interfaces = useQuery({
  queryKey: ['interfaces'],
  queryFn: () => ok(api.GET('/api/v1/interfaces')),
})
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
  <Dialog
    :visible="true"
    modal
    :header="edit ? `Edit ${edit.name}` : 'Make an offer'"
    :style="{ width: '40rem' }"
    @update:visible="emit('close')"
  >
    <form @submit.prevent="save.mutate()">
      <div class="field">
        <label for="offer-name">Name</label>
        <InputText id="offer-name" v-model="o.name" placeholder="What is sold" />
      </div>
      <div class="row">
        <div class="field">
          <label for="shop">Sold by</label>
          <select id="shop" v-model="o.interfaceId">
            <option v-for="c in shops" :key="c.id" :value="c.id">{{ c.name }}</option>
          </select>
          <small v-if="interfaces.data.value && !shops.length"
            >Connect a service that reports events first.</small
          >
        </div>
        <div class="field">
          <label for="sold-as">There it is called</label>
          <InputText id="sold-as" v-model="o.offer" />
        </div>
      </div>
      <div class="field">
        <label for="by">Gives access to</label>
        <select id="by" v-model="o.by">
          <option value="sections">these sections</option>
          <option value="course">the emptiest section of a course</option>
        </select>
        <SectionPick v-if="o.by === 'sections'" v-model="o.sectionIds!" label="Sections" />
        <div v-else class="row">
          <select v-model="o.courseId" aria-label="Course">
            <option v-for="c in courses.data.value?.items" :key="c.id" :value="c.id">{{ c.title }}</option>
          </select>
          <select v-model="o.termRule" aria-label="Term">
            <option value="current">in the term that runs</option>
            <option value="next">in the term that begins next</option>
          </select>
        </div>
      </div>
      <div class="field">
        <label for="platform">People are enrolled through</label>
        <select id="platform" v-model="o.platformId">
          <option value="">nobody is enrolled; it only shows</option>
          <option v-for="c in platforms" :key="c.id" :value="c.id">{{ c.name }}</option>
        </select>
      </div>
      <div class="row">
        <div class="field">
          <label for="grace">Days of grace after its end</label>
          <input id="grace" v-model.number="o.graceDays" type="number" min="0" max="366" />
        </div>
        <div class="field">
          <label for="at-end">Then</label>
          <select id="at-end" v-model="o.atEnd">
            <option value="unenrol">people are taken out</option>
            <option value="mark">people stay, and are marked</option>
          </select>
        </div>
      </div>
      <label
        ><input v-model="o.onlyBuyers" type="checkbox" /> only buyers may be in the sections; others are
        shown</label
      >
      <Oops :error="save.error.value" :over="(tag) => (made.over(tag), save.mutate())" />
      <div class="actions">
        <Button type="submit" label="Save" :loading="save.isPending.value" />
        <Button type="button" variant="text" label="Cancel" @click="emit('close')" />
      </div>
    </form>
  </Dialog>
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
