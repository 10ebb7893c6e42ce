<script setup lang="ts">
import Dialog from 'primevue/dialog'
import { computed, ref, type Ref } from 'vue'

import { provideForm } from './form'
import { useTyped } from './typed'

/** The frame of every dialog. Escape, the cross and another page ask before what was typed in it is
 * dropped. */
const props = defineProps<{
  title: string
  width?: string
  /** It is just being sent: then it stays. */
  sending?: boolean
  /** What the service said of it. */
  error?: Error | null
  /** The same of a mutation: while it is sent, the fields wait; what the service says of them stands
   * at them. */
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
provideForm(
  () => props.error ?? props.of?.error.value,
  () => sending.value,
)
const inputs = ref(0)
const { touch, mayClose } = useTyped(() => props.typed ?? inputs.value)
async function close() {
  if (!sending.value && (await mayClose())) emit('close')
}

// A list that is closed takes Escape for itself: in a dialog it means the dialog.
function escape(e: KeyboardEvent) {
  const list = (e.target as HTMLElement).closest('[role=combobox]')
  if (props.stays || !list || list.getAttribute('aria-expanded') === 'true') return
  e.stopPropagation()
  void close()
}

// Who opens a dialog goes on in its first field, unless it names another one.
const content = ref<HTMLElement>()
function begin() {
  const fields = ':is(input, textarea, [role=combobox]):not(:disabled, [type=hidden])'
  const first = content.value?.querySelector('[autofocus]') ?? content.value?.querySelector(fields)
  first?.setAttribute('autofocus', '')
}
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
    @show="begin"
    @update:visible="close"
  >
    <div
      ref="content"
      @keydown.capture="touch"
      @keydown.esc.capture="escape"
      @pointerdown.capture="touch"
      @input.capture="(touch($event), inputs++)"
    >
      <slot :close="close" />
    </div>
  </Dialog>
</template>
