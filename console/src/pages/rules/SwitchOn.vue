<script setup lang="ts">
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'

import type { Schemas } from '../../api/client'

/** Asks whether a rule is switched on that nobody has tried out as it is now. */
defineProps<{ rule: Schemas['Rule']; message: string }>()
const emit = defineEmits<{ close: []; choose: [] }>()
</script>

<template>
  <Dialog
    visible
    modal
    :header="`Switch on ${rule.name}`"
    :style="{ width: '32rem' }"
    @update:visible="emit('close')"
  >
    <p>{{ message }}.</p>
    <div class="actions">
      <RouterLink :to="`/rules/${rule.id}`" @click="emit('close')">Try it first</RouterLink>
      <Button size="small" variant="outlined" label="Switch it on all the same" @click="emit('choose')" />
      <Button size="small" variant="text" label="Leave it off" @click="emit('close')" />
    </div>
  </Dialog>
</template>
