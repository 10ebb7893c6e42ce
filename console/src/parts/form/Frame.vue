<script setup lang="ts">
import Dialog from 'primevue/dialog'
import { computed, ref, type Ref } from 'vue'

import { Problem } from '../../api/client'
import { provideForm } from './form'
import { useTyped } from './typed'

/** The frame of every dialog. Escape, the cross and another page ask before what was typed in it is
 * dropped. */
const props = defineProps<{
  title: string
  width?: string
  /** It is just being sent: then it stays. */
  sending?: boolean
  /** How it is sent: while it is, its fields wait; what the service says of them stands at them. */
  of?: { isPending: Ref<boolean>; error: Ref<Error | null> }
  /** What is typed; without it, whatever is typed counts. */
  typed?: unknown
  /** Where it opens; in the middle unless said otherwise. */
  position?: 'top'
  /** There is no other way out than its buttons. */
  stays?: boolean
}>()
const emit = defineEmits<{ close: [] }>()
const sending = computed(() => !!props.sending || !!props.of?.isPending.value)
if (props.of) {
  provideForm({
    problems: computed(() => (props.of?.error.value instanceof Problem ? props.of.error.value.fields : {})),
    sending,
  })
}
const inputs = ref(0)
const { touch, mayClose } = useTyped(() => props.typed ?? inputs.value)
async function close() {
  if (!sending.value && (await mayClose())) emit('close')
}
defineExpose({ close })
</script>

<template>
  <Dialog
    visible
    modal
    :position="position"
    :header="title"
    :closable="!stays"
    :close-on-escape="!stays"
    :style="{ width: width ?? '34rem' }"
    :breakpoints="{ '640px': '96vw' }"
    @update:visible="close"
  >
    <div @keydown.capture="touch" @pointerdown.capture="touch" @input.capture="(touch($event), inputs++)">
      <slot :close="close" />
    </div>
  </Dialog>
</template>
