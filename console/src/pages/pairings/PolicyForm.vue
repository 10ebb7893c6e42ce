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
  <Frame :of="save" :title="$t('pairings.whatThisPairingWants')" width="30rem" @close="emit('close')">
    <form @submit.prevent="save.mutate()">
      <TextField id="class" v-model="target" name="target" :label="$t('pairings.nameOfClassOutside')" />
      <TextField id="roles" v-model="roles" name="policy.roles" :label="$t('pairings.carriesTheseRoles')" />
      <ChoiceField
        id="leavers"
        v-model="policy.leavers"
        name="policy.leavers"
        :label="$t('pairings.peopleWhoLeaveSection')"
        :options="[
          { value: 'remove', label: $t('pairings.areTakenOutTheirAccount') },
          {
            value: 'deactivate',
            label: $t('pairings.areTakenOutTheirAccountWord'),
          },
          { value: 'keep', label: $t('pairings.stayWhereTheyAre') },
        ]"
      />
      <div class="field">
        <label for="schedule">{{ $t('common.runsByItself') }}</label>
        <ScheduleField id="schedule" v-model="policy.schedule" />
        <small>{{ $t('pairings.firstRunIsMadeBy') }}</small>
      </div>
      <p>
        <TickField v-model="policy.hold" :label="$t('pairings.holdLearnersBackUntilClass')" /><br />
        <TickField v-model="policy.notify" :label="$t('pairings.serviceMayNotifyNewcomersOf')" /><br />
        <TickField v-model="policy.ownTarget" :label="$t('pairings.takeOutMembersWhomKanban')" />
      </p>
      <TextField
        id="number"
        v-model="number"
        name="policy.removalNumber"
        :label="$t('pairings.stopForPersonAboveSo')"
      />
      <TextField
        id="share"
        v-model="share"
        name="policy.removalShare"
        :label="$t('pairings.orAboveThisShareOf')"
      />
      <Oops :error="save.error.value" :over="(tag) => (made.over(tag), save.mutate())" />
      <div class="actions">
        <Button type="submit" :label="$t('common.save')" :loading="save.isPending.value" />
      </div>
    </form>
  </Frame>
</template>
