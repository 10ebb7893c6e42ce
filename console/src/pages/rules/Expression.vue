<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { defineAsyncComponent, inject, onUnmounted, ref, watch } from 'vue'

import { api, ok } from '../../api/client'
import PlainEditor from '../../parts/form/PlainEditor.vue'
import { sampleEvent } from './sample'

// The editor is loaded when a form needs it; where it cannot be loaded, a plain field does.
const CodeEditor = defineAsyncComponent({
  loader: () => import('../../parts/form/CodeEditor.vue'),
  loadingComponent: PlainEditor,
  errorComponent: PlainEditor,
  delay: 0,
})

/** A condition, a value or a text, checked while it is typed, with what can be named. */
const text = defineModel<string | undefined>({ required: true })
const props = defineProps<{
  id: string
  kind: 'condition' | 'value' | 'template'
  trigger: string
  /** What it is called, where no label with the id `…-label` says it. */
  label?: string
  rows?: number
  placeholder?: string
}>()
const names = useQuery({
  queryKey: ['schema', () => props.trigger],
  queryFn: () => ok(api.GET('/api/v1/triggers/{trigger}', { params: { path: { trigger: props.trigger } } })),
})
const checked = ref<{ fine: boolean; problem?: string; sample?: string }>()
let timer: ReturnType<typeof setTimeout> | undefined
let asked = 0
const checking = ref(false)
// The real event for which to say what a text gives; a made-up one when empty.
const event = inject(sampleEvent, ref(''))
watch(
  [text, () => props.trigger, event],
  () => {
    clearTimeout(timer)
    if (!text.value?.trim()) {
      checked.value = undefined
      checking.value = false
      asked++
      return
    }
    checking.value = true
    timer = setTimeout(async () => {
      const mine = ++asked
      const found = await api
        .POST('/api/v1/texts', {
          body: {
            trigger: props.trigger,
            kind: props.kind,
            text: text.value ?? '',
            eventId: event.value || undefined,
          },
        })
        .catch(() => undefined) // not known, then: it is checked again when it is saved
      if (mine !== asked) return
      checked.value = found?.data
      checking.value = false
    }, 250)
  },
  { immediate: true },
)
onUnmounted(() => clearTimeout(timer))
</script>

<template>
  <div class="expression" :aria-busy="checking">
    <CodeEditor
      :id="id"
      v-model="text"
      :names="names.data.value ?? []"
      :label="label"
      :labelled-by="label ? undefined : `${id}-label`"
      :rows="rows"
      :placeholder="placeholder"
      :class="{ code: kind !== 'template' }"
      :invalid="!!checked && !checked.fine"
    />
    <small v-if="checked && !checked.fine" class="problem" role="alert">{{ checked.problem }}</small>
    <small v-else-if="checked?.sample" class="faint"
      >{{ $t('rules.forEvent', { event: event ? $t('rules.that') : $t('rules.madeUp') }) }}
      <code>{{ checked.sample.slice(0, 90) }}</code></small
    >
  </div>
</template>

<style scoped>
.expression {
  position: relative;
  display: grid;
}

.code {
  font-family: var(--mono);
}

.problem {
  color: var(--signal);
  white-space: pre-wrap;
}
</style>
