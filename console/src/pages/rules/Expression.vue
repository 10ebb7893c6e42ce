<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Textarea from 'primevue/textarea'
import { computed, inject, onUnmounted, ref, watch } from 'vue'

import { api, ok } from '../../api/client'
import { sampleEvent } from './sample'

/** A condition, a value or a text, checked while it is typed, with what can be named. */
const text = defineModel<string | undefined>({ required: true })
const props = defineProps<{
  id: string
  kind: 'condition' | 'value' | 'template'
  trigger: string
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

const field = ref<{ $el: HTMLTextAreaElement }>()
const area = computed(() => field.value?.$el)
// The name that is being typed just before the cursor.
const typing = ref('')
function look() {
  const at = area.value?.selectionStart ?? 0
  typing.value = /[\w.]+$/.exec((text.value ?? '').slice(0, at))?.[0] ?? ''
}
const fitting = computed(() =>
  typing.value.length
    ? (names.data.value ?? [])
        .filter((n) => n.path.startsWith(typing.value) && n.path !== typing.value)
        .slice(0, 6)
    : [],
)
function take(path: string) {
  const at = area.value?.selectionStart ?? 0
  const before = (text.value ?? '').slice(0, at - typing.value.length)
  text.value = before + path + (text.value ?? '').slice(at)
  typing.value = ''
  area.value?.focus()
}
</script>

<template>
  <div class="expression" :aria-busy="checking">
    <Textarea
      :id="id"
      ref="field"
      v-model="text"
      :rows="rows ?? 1"
      :placeholder="placeholder"
      :class="{ code: kind !== 'template', bad: checked && !checked.fine }"
      spellcheck="false"
      @keyup="look"
      @click="look"
      @keydown.tab="fitting.length && ($event.preventDefault(), take(fitting[0]!.path))"
    />
    <div v-if="fitting.length" class="names" role="listbox" aria-label="Names that fit">
      <Button v-for="n in fitting" :key="n.path" unstyled type="button" @mousedown.prevent="take(n.path)">
        <code>{{ n.path }}</code> <span class="faint">{{ n.about }}</span>
      </Button>
    </div>
    <small v-if="checked && !checked.fine" class="problem" role="alert">{{ checked.problem }}</small>
    <small v-else-if="checked?.sample" class="faint"
      >for {{ event ? 'that' : 'a made-up' }} event: <code>{{ checked.sample.slice(0, 90) }}</code></small
    >
  </div>
</template>

<style scoped>
.expression {
  position: relative;
  display: grid;
}

textarea {
  resize: vertical;
  width: 100%;
}

.code {
  font-family: var(--mono);
}

.bad {
  border-color: var(--signal);
}

.problem {
  color: var(--signal);
  white-space: pre-wrap;
}

.names {
  position: absolute;
  top: calc(100% - 0.2rem);
  left: 0;
  z-index: 3;
  background: var(--sheet);
  border: 1px solid var(--ink);
  display: grid;
  min-width: 22rem;
}

.names button {
  font: inherit;
  border: 0;
  background: none;
  text-align: left;
  padding: 0.2rem 0.6rem;
  cursor: pointer;
}

.names button:hover {
  background: var(--hair);
}
</style>
