<script setup lang="ts">
import { useMutation, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import { ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import { useVersion } from '../../parts/draft'
import Oops from '../../parts/Oops.vue'
import ScheduleField from '../../parts/ScheduleField.vue'

/** Changes what a pairing wants. */
const props = defineProps<{ pairing: Schemas['Pairing'] }>()
const emit = defineEmits<{ close: [] }>()
const queries = useQueryClient()
const made = useVersion(props.pairing.version)
const policy = ref({ ...props.pairing.policy })
const roles = ref(policy.value.roles.join(', '))
const target = ref(props.pairing.target)
const share = ref(String(Math.round(policy.value.removalShare * 100)))
const number = ref(String(policy.value.removalNumber))
const save = useMutation({
  mutationFn: () =>
    ok(
      api.PATCH('/api/v1/pairings/{id}', {
        params: { path: { id: props.pairing.id }, header: made.header.value },
        body: {
          policy: {
            ...policy.value,
            roles: roles.value
              .split(',')
              .map((r) => r.trim())
              .filter(Boolean),
            removalShare: Number(share.value) / 100,
            removalNumber: Number(number.value),
          },
          target: target.value === props.pairing.target ? undefined : target.value,
        },
      }),
    ),
  onSuccess: async () => {
    await Promise.all(['pairing', 'preview'].map((k) => queries.invalidateQueries({ queryKey: [k] })))
    emit('close')
  },
})
</script>

<template>
  <Dialog
    visible
    modal
    header="What this pairing wants"
    :style="{ width: '30rem' }"
    @update:visible="emit('close')"
  >
    <form @submit.prevent="save.mutate()">
      <div class="field">
        <label for="class">Name of the class outside</label>
        <InputText id="class" v-model="target" />
      </div>
      <div class="field">
        <label for="roles">Carries these roles</label>
        <InputText id="roles" v-model="roles" />
      </div>
      <div class="field">
        <label for="leavers">People who leave the section</label>
        <select id="leavers" v-model="policy.leavers">
          <option value="remove">are taken out; their account stays</option>
          <option value="deactivate">
            are taken out; their account is switched off unless needed elsewhere
          </option>
          <option value="keep">stay where they are</option>
        </select>
      </div>
      <div class="field">
        <label for="schedule">Runs by itself</label>
        <ScheduleField id="schedule" v-model="policy.schedule" />
        <small>The first run is made by hand. Removals above the guard always wait for a person.</small>
      </div>
      <p>
        <label
          ><input v-model="policy.hold" type="checkbox" /> Hold learners back until the class is opened</label
        ><br />
        <label
          ><input v-model="policy.notify" type="checkbox" /> The service may notify newcomers of their
          account</label
        ><br />
        <label
          ><input v-model="policy.ownTarget" type="checkbox" /> Take out members whom Kanban did not put
          in</label
        >
      </p>
      <div class="field">
        <label for="number">Stop for a person above so many removals</label>
        <InputText id="number" v-model="number" inputmode="numeric" />
        <label for="share">or above this share of the class, in %</label>
        <InputText id="share" v-model="share" inputmode="numeric" />
      </div>
      <Oops :error="save.error.value" :over="(tag) => (made.over(tag), save.mutate())" />
      <div class="actions"><Button type="submit" label="Save" :loading="save.isPending.value" /></div>
    </form>
  </Dialog>
</template>

<style scoped>
select {
  max-width: 100%;
}
</style>
