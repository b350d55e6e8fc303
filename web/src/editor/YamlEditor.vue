<script setup lang="ts">
import { autocompletion, type CompletionContext, type CompletionResult } from '@codemirror/autocomplete'
import { yaml } from '@codemirror/lang-yaml'
import { lintGutter, setDiagnostics, type Diagnostic } from '@codemirror/lint'
import { EditorView } from '@codemirror/view'
import { basicSetup } from 'codemirror'
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'

import type { Finding } from '../api/client'
import { nonce } from '../nonce'
import { suggest, type Schema } from './suggest'

// The mapping as text: completion from its schema, mistakes at their place.
const props = defineProps<{ findings: Finding[]; schema?: Schema; columns: string[] }>()
const text = defineModel<string>({ required: true })
const box = ref<HTMLElement>()
let view: EditorView | undefined

function complete(c: CompletionContext): CompletionResult | null {
  if (!props.schema) return null
  const word = c.matchBefore(/[\w.@$-]*/)
  if (!c.explicit && (!word || word.from === word.to)) return null
  const options = suggest(props.schema, c.state.doc.toString(), c.pos, props.columns)
  return options.length ? { from: word?.from ?? c.pos, options, validFor: /^[\w.@$ -]*$/ } : null
}

onMounted(() => {
  view = new EditorView({
    doc: text.value,
    parent: box.value!,
    extensions: [
      basicSetup,
      yaml(),
      lintGutter(),
      EditorView.lineWrapping,
      autocompletion({ override: [complete] }),
      EditorView.cspNonce.of(nonce),
      EditorView.contentAttributes.of({ 'aria-label': 'The mapping as YAML' }),
      EditorView.updateListener.of((u) => {
        if (u.docChanged) text.value = u.state.doc.toString()
      }),
    ],
  })
  mark()
})
onBeforeUnmount(() => view?.destroy())

watch(text, (now) => {
  if (view && view.state.doc.toString() !== now)
    view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: now } })
})
watch(() => props.findings, mark)

function mark() {
  if (!view) return
  const doc = view.state.doc
  const list: Diagnostic[] = props.findings
    .filter((f) => f.place.mapping)
    .map((f) => {
      const line = doc.line(Math.min(doc.lines, Math.max(1, f.place.row ?? 1)))
      const from = Math.min(line.to, line.from + Math.max(0, (f.place.column ?? 1) - 1))
      const word = /^[^\s,}:\]]+/.exec(doc.sliceString(from, line.to))
      return {
        from,
        to: Math.max(from, from + (word?.[0].length ?? 1)),
        severity: 'error',
        message: `${f.message} ${f.hint ?? ''}`,
      }
    })
  view.dispatch(
    setDiagnostics(
      view.state,
      list.map((d) => ({ ...d, to: Math.min(d.to, doc.length) })),
    ),
  )
}
</script>

<template><div ref="box" class="yaml sheet" /></template>

<style scoped>
.yaml {
  height: 100%;
  overflow: auto;
  font-size: 12.5px;
}
.yaml :deep(.cm-editor) {
  height: 100%;
  background: var(--paper);
  color: var(--ink);
  outline: none;
}
.yaml :deep(.cm-gutters) {
  background: var(--desk);
  color: var(--ink-soft);
  border-right: 1px solid var(--rule);
}
.yaml :deep(.cm-activeLine),
.yaml :deep(.cm-activeLineGutter) {
  background: color-mix(in srgb, var(--accent-wash) 50%, transparent);
}
.yaml :deep(.cm-cursor) {
  border-left-color: var(--ink);
}
.yaml :deep(.cm-tooltip) {
  background: var(--paper);
  color: var(--ink);
  border: 1px solid var(--rule);
}
.yaml :deep(.cm-tooltip-autocomplete ul li[aria-selected]) {
  background: var(--accent);
  color: var(--paper);
}
.yaml :deep(.cm-content ::selection),
.yaml :deep(.cm-selectionBackground) {
  background: var(--accent-wash) !important;
}
</style>
