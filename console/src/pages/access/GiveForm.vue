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
        ? $t('access.giveAccessByHand', { name: give.name })
        : whose
          ? $t('access.whoseIsThisPurchaseOf', { offer: whose.offer })
          : $t('access.endAccessOf', { person: end?.person })
    "
    width="34rem"
    @close="emit('close')"
  >
    <form @submit.prevent="save.mutate()">
      <p v-if="whose">
        <i18n-t keypath="access.bought" scope="global"
          ><template #buyer>{{
            whose.buyer ? $t('access.under', { buyer: whose.buyer }) : $t('access.withoutAddress')
          }}</template
          ><template #more
            ><template v-if="whose.name">{{ $t('access.by', { name: whose.name }) }}</template></template
          >
          <template #more2
            ><template v-if="whose.order"
              >{{ ' ' }}{{ $t('access.order', { order: whose.order }) }}</template
            ></template
          ></i18n-t
        >
      </p>
      <div v-if="!end" class="field">
        <label>{{ $t('common.person') }}</label>
        <Finder v-model="person" :label="$t('access.nameAddressOrIdentifier')" :search="people" />
      </div>
      <WhenField
        v-if="give"
        id="until"
        v-model="until"
        name="until"
        of="date-time"
        :label="$t('access.untilLabel')"
        :help="$t('access.emptyUntilItIsEnded')"
      />
      <AreaField
        v-if="!whose"
        id="reason"
        v-model="reason"
        name="reason"
        :rows="2"
        :label="$t('common.why')"
      />
      <Oops :error="save.error.value" />
      <div class="actions">
        <Button
          type="submit"
          :label="give ? $t('access.giveAccess') : whose ? $t('access.itIsTheirs') : $t('access.endIt')"
          :disabled="!end && !person"
          :loading="save.isPending.value"
        />
        <Button type="button" variant="text" :label="$t('common.cancel')" @click="emit('close')" />
      </div>
    </form>
  </Frame>
</template>
