<script setup lang="ts">
import {
  acceptCompletion,
  autocompletion,
  closeBrackets,
  closeBracketsKeymap,
  type CompletionContext,
  completionKeymap,
  completionStatus,
} from '@codemirror/autocomplete'
import { defaultKeymap, history, historyKeymap } from '@codemirror/commands'
import { Compartment, EditorState } from '@codemirror/state'
import { EditorView, keymap, placeholder as shownWhenEmpty } from '@codemirror/view'
import { onBeforeUnmount, onMounted, useTemplateRef, watch } from 'vue'

/** A text in which names can be completed by keyboard: arrows choose, Enter or Tab takes. */
const text = defineModel<string | undefined>({ required: true })
const props = defineProps<{
  id: string
  /** Id of the element that labels it; what it is called, where nothing does. */
  labelledBy?: string
  label?: string
  names: { path: string; about: string }[]
  rows?: number
  placeholder?: string
  invalid?: boolean
}>()

function complete(at: CompletionContext) {
  const word = at.matchBefore(/[\w.]+/)
  if (!word && !at.explicit) return null
  return {
    from: word?.from ?? at.pos,
    options: props.names.map((n) => ({ label: n.path, detail: n.about })),
    validFor: /^[\w.]*$/,
  }
}

let view: EditorView | undefined
// Its id and label change when it is moved among others.
const about = new Compartment()
const attributes = () =>
  EditorView.contentAttributes.of({
    id: props.id,
    ...(props.labelledBy ? { 'aria-labelledby': props.labelledBy } : { 'aria-label': props.label ?? '' }),
    'aria-invalid': String(!!props.invalid),
    spellcheck: 'false',
  })
watch(
  () => [props.id, props.labelledBy, props.label, props.invalid],
  () => view?.dispatch({ effects: about.reconfigure(attributes()) }),
)

const place = useTemplateRef<HTMLElement>('place')
onMounted(() => {
  view = new EditorView({
    parent: place.value!,
    state: EditorState.create({
      doc: text.value ?? '',
      extensions: [
        history(),
        closeBrackets(),
        autocompletion({ override: [complete], icons: false }),
        keymap.of([
          { key: 'Tab', run: acceptCompletion },
          ...closeBracketsKeymap,
          ...completionKeymap,
          ...historyKeymap,
          ...defaultKeymap,
        ]),
        shownWhenEmpty(props.placeholder ?? ''),
        EditorView.lineWrapping,
        about.of(attributes()),
        EditorView.domEventHandlers({
          // Escape closes what can be completed, and then the dialog around it.
          keydown: (e, v) => {
            if (e.key === 'Escape' && completionStatus(v.state)) e.stopPropagation()
          },
        }),
        EditorView.updateListener.of((u) => {
          if (u.docChanged) text.value = u.state.doc.toString()
        }),
      ],
    }),
  })
})
watch(text, (now) => {
  const doc = view?.state.doc
  if (view && doc && (now ?? '') !== doc.toString()) {
    view.dispatch({ changes: { from: 0, to: doc.length, insert: now ?? '' } })
  }
})
onBeforeUnmount(() => view?.destroy())
</script>

<template>
  <div ref="place" class="editor" :class="{ bad: invalid }" :style="{ '--rows': rows ?? 1 }" />
</template>

<style scoped>
.editor {
  border: 1px solid var(--p-form-field-border-color);
  background: var(--sheet);
  min-width: 0;
}

.editor:focus-within {
  border-color: var(--ink);
}

.bad {
  border-color: var(--signal);
}

.editor :deep(.cm-editor.cm-focused) {
  outline: none;
}

.editor :deep(.cm-content) {
  font: inherit;
  font-size: 14px;
  line-height: 1.45;
  padding: 0.35rem 0;
  min-height: calc(var(--rows) * 1.45em + 0.7rem);
}

.editor :deep(.cm-line) {
  padding: 0 0.6rem;
}

.editor :deep(.cm-placeholder) {
  color: var(--faint);
}

.editor :deep(.cm-tooltip-autocomplete) {
  border: 1px solid var(--ink);
  background: var(--sheet);
}

.editor :deep(.cm-tooltip-autocomplete > ul > li) {
  padding: 0.2rem 0.6rem;
}

.editor :deep(.cm-tooltip-autocomplete > ul > li[aria-selected]) {
  background: var(--ink);
  color: var(--sheet);
}

.editor :deep(.cm-completionDetail) {
  font: 12px var(--sans);
  font-style: normal;
}
</style>
