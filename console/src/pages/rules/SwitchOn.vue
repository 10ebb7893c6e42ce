<script setup lang="ts">
import Button from 'primevue/button'

import type { Schemas } from '../../api/client'
import Frame from '../../parts/form/Frame.vue'

/** Asks whether a rule is switched on that nobody has tried out as it is now. */
defineProps<{ rule: Schemas['Rule']; message: string }>()
const emit = defineEmits<{ close: []; choose: [] }>()
</script>

<template>
  <Frame :title="$t('rules.switchOnName', { name: rule.name })" width="32rem" @close="emit('close')">
    <p>{{ message }}.</p>
    <div class="actions">
      <RouterLink :to="`/rules/${rule.id}`" @click="emit('close')">{{ $t('rules.tryItFirst') }}</RouterLink>
      <Button
        size="small"
        variant="outlined"
        :label="$t('rules.switchItOnAllSame')"
        @click="emit('choose')"
      />
      <Button size="small" variant="text" :label="$t('rules.leaveItOff')" @click="emit('close')" />
    </div>
  </Frame>
</template>
