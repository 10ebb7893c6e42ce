<script setup lang="ts">
import { useMutation, useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'

import { api, ok } from '../../api/client'
import { letGo } from '../../parts/form/typed'
import Fold from '../../parts/Fold.vue'
import FormDialog from '../../parts/form/FormDialog.vue'
import TextField from '../../parts/form/TextField.vue'
import { exactly } from '../../parts/when'
import { $t } from '../../texts'
import Made from './Made.vue'

/** Lets a course platform join: by one address that its administrator pastes there, or by hand. */
const emit = defineEmits<{ close: [] }>()
const name = ref('')
const make = useMutation({
  mutationFn: () => ok(api.POST('/api/v1/registration-addresses', { body: { name: name.value.trim() } })),
  onSuccess: () => {
    name.value = ''
    letGo()
  },
})
const made = computed(() => make.data.value)
const tool = useQuery({
  queryKey: ['tool-addresses'],
  queryFn: () => ok(api.GET('/api/v1/tool-addresses')),
})
const byHand = computed(() => {
  const t = tool.data.value
  return (
    t && {
      [$t('connections.toolLogin')]: t.login,
      [$t('connections.toolLaunch')]: t.launch,
      [$t('connections.toolKeys')]: t.keys,
      [$t('connections.toolCustom')]: Object.entries(t.custom)
        .map(([k, v]) => `${k}=${v}`)
        .join('\n'),
    }
  )
})
</script>

<template>
  <FormDialog
    :title="$t('connections.letPlatformJoin')"
    :submit="made ? undefined : $t('connections.makeAddress')"
    :cancel="made ? $t('common.close') : undefined"
    :sending="make.isPending.value"
    :unready="!name.trim()"
    :error="make.error.value"
    :typed="name"
    @submit="make.mutate()"
    @close="emit('close')"
  >
    <template v-if="made">
      <p>{{ $t('connections.pasteThere', { name: made.name, until: exactly(made.expiresAt) }) }}</p>
      <Made :made="{ [$t('connections.address')]: made.address ?? '' }" />
      <p class="faint">{{ $t('connections.shownOnceThen') }}</p>
    </template>
    <template v-else>
      <p>{{ $t('connections.joinAbout') }}</p>
      <TextField
        id="platform-name"
        v-model="name"
        :label="$t('connections.platformName')"
        :placeholder="$t('connections.platformExample')"
      />
      <Fold :title="$t('connections.joinByHand')">
        <p class="faint">{{ $t('connections.joinByHandAbout') }}</p>
        <Made v-if="byHand" :made="byHand" />
      </Fold>
    </template>
  </FormDialog>
</template>
