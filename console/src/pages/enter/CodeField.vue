<script setup lang="ts">
import { nextTick, onMounted } from 'vue'

import TextField from '../../parts/form/TextField.vue'

/** The one-time code of somebody whose password was right; it takes the focus when it comes. */
const code = defineModel<string>({ required: true })
onMounted(async () => {
  await nextTick()
  document.getElementById('code')?.focus()
})
</script>

<template>
  <TextField
    id="code"
    v-model="code"
    autocomplete="one-time-code"
    required
    :label="$t('enter.code')"
    :help="$t('enter.codeHelp')"
  />
</template>
