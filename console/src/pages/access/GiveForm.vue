<script setup lang="ts">
import { useMutation, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import { people } from '../../parts/find'
import Finder from '../../parts/Finder.vue'
import AreaField from '../../parts/form/AreaField.vue'
import Frame from '../../parts/form/Frame.vue'
import WhenField from '../../parts/form/WhenField.vue'
import Oops from '../../parts/Oops.vue'

/** What is asked for: access given by hand by an offer, the end of one, or whose a purchase is. */
const props = defineProps<{ give?: Schemas['Offer']; end?: Schemas['Access']; whose?: Schemas['Access'] }>()
const emit = defineEmits<{ close: [] }>()
const queries = useQueryClient()
const person = ref('')
const until = ref('')
const reason = ref('')
const save = useMutation({
  mutationFn: async () => {
    if (props.give) {
      const body = {
        personId: person.value,
        until: until.value ? new Date(until.value).toISOString() : undefined,
        reason: reason.value,
      }
      await ok(api.POST('/api/v1/offers/{id}/accesses', { params: { path: { id: props.give.id } }, body }))
    } else if (props.whose) {
      const at = { params: { path: { id: props.whose.id } } }
      await ok(api.POST('/api/v1/accesses/{id}/person', { ...at, body: { personId: person.value } }))
    } else if (props.end) {
      const at = { params: { path: { id: props.end.id } } }
      await ok(api.POST('/api/v1/accesses/{id}/end', { ...at, body: { reason: reason.value } }))
    }
  },
  onSuccess: async () => {
    emit('close')
    await queries.invalidateQueries()
  },
})
</script>

<template>
  <Frame
    :of="save"
    :title="
      give
        ? `Give access by hand: ${give.name}`
        : whose
          ? `Whose is this purchase of ${whose.offer}?`
          : `End the access of ${end?.person}`
    "
    width="34rem"
    @close="emit('close')"
  >
    <form @submit.prevent="save.mutate()">
      <p v-if="whose">
        Bought {{ whose.buyer ? `under ${whose.buyer}` : 'without an address' }}
        <template v-if="whose.name">by “{{ whose.name }}”</template>
        <template v-if="whose.order"> (order {{ whose.order }})</template>.
      </p>
      <div v-if="!end" class="field">
        <label>Person</label>
        <Finder v-model="person" label="name, address or identifier" :search="people" />
      </div>
      <WhenField
        v-if="give"
        id="until"
        v-model="until"
        of="date-time"
        label="Until"
        help="Empty: until it is ended."
      />
      <AreaField v-if="!whose" id="reason" v-model="reason" :rows="2" label="Why" />
      <Oops :error="save.error.value" />
      <div class="actions">
        <Button
          type="submit"
          :label="give ? 'Give access' : whose ? 'It is theirs' : 'End it'"
          :disabled="!end && !person"
          :loading="save.isPending.value"
        />
        <Button type="button" variant="text" label="Cancel" @click="emit('close')" />
      </div>
    </form>
  </Frame>
</template>
