<script setup lang="ts">
import Button from 'primevue/button'

import Frame from '../../parts/form/Frame.vue'

/** Asks what becomes of what a rule has still to come when it is switched off. */
defineProps<{ name: string; message: string }>()
const emit = defineEmits<{ close: []; choose: [toCome: 'stop' | 'finish'] }>()
</script>

<template>
  <Frame :title="$t('rules.switchOffName', { name })" width="32rem" @close="emit('close')">
    <p>{{ message.charAt(0).toUpperCase() + message.slice(1) }}.</p>
    <div class="actions">
      <Button size="small" :label="$t('rules.stopThem')" @click="emit('choose', 'stop')" />
      <Button
        size="small"
        variant="outlined"
        :label="$t('rules.letThemFinish')"
        @click="emit('choose', 'finish')"
      />
      <Button size="small" variant="text" :label="$t('rules.leaveItOn')" @click="emit('close')" />
    </div>
  </Frame>
</template>
