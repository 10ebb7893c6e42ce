<script setup lang="ts">
import { useMutation, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { ref } from 'vue'

import { api, ok, type Schemas } from '../../api/client'
import { useVersion } from '../../parts/draft'
import ChoiceField from '../../parts/form/ChoiceField.vue'
import Frame from '../../parts/form/Frame.vue'
import TextField from '../../parts/form/TextField.vue'
import TickField from '../../parts/form/TickField.vue'
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
  <Frame :of="save" title="What this pairing wants" width="30rem" @close="emit('close')">
    <form @submit.prevent="save.mutate()">
      <TextField id="class" v-model="target" label="Name of the class outside" />
      <TextField id="roles" v-model="roles" label="Carries these roles" />
      <ChoiceField
        id="leavers"
        v-model="policy.leavers"
        label="People who leave the section"
        :options="[
          { value: 'remove', label: 'are taken out; their account stays' },
          {
            value: 'deactivate',
            label: 'are taken out; their account is switched off unless needed elsewhere',
          },
          { value: 'keep', label: 'stay where they are' },
        ]"
      />
      <div class="field">
        <label for="schedule">Runs by itself</label>
        <ScheduleField id="schedule" v-model="policy.schedule" />
        <small>The first run is made by hand. Removals above the guard always wait for a person.</small>
      </div>
      <p>
        <TickField v-model="policy.hold" label="Hold learners back until the class is opened" /><br />
        <TickField v-model="policy.notify" label="The service may notify newcomers of their account" /><br />
        <TickField v-model="policy.ownTarget" label="Take out members whom Kanban did not put in" />
      </p>
      <TextField id="number" v-model="number" label="Stop for a person above so many removals" />
      <TextField id="share" v-model="share" label="or above this share of the class, in %" />
      <Oops :error="save.error.value" :over="(tag) => (made.over(tag), save.mutate())" />
      <div class="actions"><Button type="submit" label="Save" :loading="save.isPending.value" /></div>
    </form>
  </Frame>
</template>
