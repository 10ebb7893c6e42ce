<script setup lang="ts">
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'

/** Asks what becomes of what a rule has still to come when it is switched off. */
defineProps<{ name: string; message: string }>()
const emit = defineEmits<{ close: []; choose: [toCome: 'stop' | 'finish'] }>()
</script>

<template>
  <Dialog
    visible
    modal
    :header="`Switch off ${name}`"
    :style="{ width: '32rem' }"
    @update:visible="emit('close')"
  >
    <p>{{ message.charAt(0).toUpperCase() + message.slice(1) }}.</p>
    <div class="actions">
      <Button size="small" label="Stop them" @click="emit('choose', 'stop')" />
      <Button size="small" variant="outlined" label="Let them finish" @click="emit('choose', 'finish')" />
      <Button size="small" variant="text" label="Leave it on" @click="emit('close')" />
    </div>
  </Dialog>
</template>
