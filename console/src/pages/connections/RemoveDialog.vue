<script setup lang="ts">
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, ok } from '../../api/client'
import Frame from '../../parts/form/Frame.vue'
import TextField from '../../parts/form/TextField.vue'
import { letGo } from '../../parts/form/typed'
import Oops from '../../parts/Oops.vue'

/** Says what depends on a connection or an interface, and removes it when that is meant. */
const props = defineProps<{ of: 'connections' | 'interfaces'; id: string; name: string }>()
const emit = defineEmits<{ close: [] }>()
const queries = useQueryClient()
const router = useRouter()
const path = { id: props.id }
const what = useQuery({
  queryKey: ['removal', props.id],
  queryFn: () =>
    props.of === 'connections'
      ? ok(api.GET('/api/v1/connections/{id}/removal', { params: { path } }))
      : ok(api.GET('/api/v1/interfaces/{id}/removal', { params: { path } })),
})
const used = computed(() => !!what.data.value?.dependents.length)
const named = computed(() => what.data.value?.dependents.filter((d) => d.name) ?? [])
const typed = ref('')
const remove = useMutation({
  mutationFn: () => {
    const given = { params: { path, query: used.value ? { name: typed.value } : {} } }
    return props.of === 'connections'
      ? ok(api.DELETE('/api/v1/connections/{id}', given))
      : ok(api.DELETE('/api/v1/interfaces/{id}', given))
  },
  onSuccess: async () => {
    letGo()
    if (props.of === 'connections') await router.push('/connections')
    void queries.invalidateQueries()
    emit('close')
  },
})
</script>

<template>
  <Frame :of="remove" :title="$t('connections.removeName', { name })" width="34rem" @close="emit('close')">
    <Oops :error="what.error.value" :again="what.refetch" />
    <template v-if="what.data.value">
      <p v-if="!used">{{ $t('connections.nothingDependsOnIt') }}</p>
      <template v-else>
        <p>
          <i18n-t keypath="connections.itIsInUseAll" scope="global"
            ><template #summary
              ><b>{{ what.data.value.summary }}</b></template
            ></i18n-t
          >
        </p>
        <ul v-if="named.length">
          <li v-for="(d, i) in named.slice(0, 12)" :key="i">{{ d.kind }}: {{ d.name }}</li>
          <li v-if="named.length > 12">{{ $t('connections.andMore', { named: named.length - 12 }) }}</li>
        </ul>
      </template>
      <p class="faint">{{ $t('connections.nothingIsDeletedFor30') }}</p>
      <form @submit.prevent="remove.mutate()">
        <TextField
          v-if="used"
          id="typed"
          v-model="typed"
          autocomplete="off"
          :label="$t('connections.itsNameToRemoveIt')"
        />
        <Oops :error="remove.error.value" />
        <div class="actions">
          <Button
            type="submit"
            size="small"
            :label="$t('common.remove')"
            :disabled="used && typed !== name"
            :loading="remove.isPending.value"
          />
          <Button
            type="button"
            size="small"
            variant="text"
            :label="$t('connections.keepIt')"
            @click="emit('close')"
          />
        </div>
      </form>
    </template>
  </Frame>
</template>

<style scoped>
ul {
  max-height: 12rem;
  overflow: auto;
  padding-inline-start: 1.2rem;
}

.actions {
  display: flex;
  gap: 0.5rem;
  margin-top: 0.8rem;
}
</style>
