<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, ok, type Schemas } from '../../api/client'
import Oops from '../../parts/Oops.vue'

const props = defineProps<{ section: Schemas['Section'] }>()
const emit = defineEmits<{ close: [] }>()
const router = useRouter()

const connections = useQuery({ queryKey: ['connections'], queryFn: () => ok(api.GET('/api/v1/connections')) })
const services = computed(() => (connections.data.value?.items ?? []).filter((c) => c.kind === 'scim'))
const connectionId = ref('')
watch(services, (all) => (connectionId.value ||= all[0]?.id ?? ''), { immediate: true })
const target = ref(props.section.title)
const error = ref<Error | null>(null)
const busy = ref(false)

async function pair() {
  busy.value = true
  error.value = null
  try {
    const body = { sectionId: props.section.id, connectionId: connectionId.value, target: target.value }
    const p = await ok(api.POST('/api/v1/pairings', { body }))
    await router.push(`/pairings/${p.id}`)
  } catch (e) {
    error.value = e as Error
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <Dialog
    :visible="true"
    modal
    :header="`Pair ${section.title}`"
    :style="{ width: '30rem' }"
    @update:visible="emit('close')"
  >
    <p class="faint">
      {{ section.learners }} learners, {{ section.teachers.join(', ') || 'no teacher' }}. Nothing happens at
      the service until you have seen the preview.
    </p>
    <p v-if="connections.data.value && !services.length">
      No service takes people yet. <RouterLink to="/connections">Connect one</RouterLink> of the kind
      “Workspace”.
    </p>
    <form v-else @submit.prevent="pair">
      <div class="field">
        <label for="service">Service</label>
        <select id="service" v-model="connectionId">
          <option v-for="c in services" :key="c.id" :value="c.id">{{ c.name }}</option>
        </select>
      </div>
      <div class="field">
        <label for="target">Name of the new class there</label>
        <InputText id="target" v-model="target" autofocus />
      </div>
      <Oops :error="error" />
      <div class="actions">
        <Button type="submit" label="Pair and preview" :loading="busy" :disabled="!connectionId" />
        <Button type="button" variant="text" label="Cancel" @click="emit('close')" />
      </div>
    </form>
  </Dialog>
</template>
