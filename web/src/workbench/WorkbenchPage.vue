<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import MultiSelect from 'primevue/multiselect'
import Select from 'primevue/select'
import { computed, defineAsyncComponent, onMounted, onUnmounted, ref, useTemplateRef, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, data, ProblemError, sendText, type Comparison, type Finding, type Mapping, type Preview, type RowsOutcome } from '../api/client'
import OrderPaper from '../components/OrderPaper.vue'
import SourceGrid, { type Role } from '../components/SourceGrid.vue'
import type { Spot } from '../places'
import StateNote from '../components/StateNote.vue'
import { useBusy } from '../busy'
import { columnName, count } from '../format'
import EffectTable from './EffectTable.vue'
import FieldTable from './FieldTable.vue'
import type { Schema } from './suggest'
import * as edit from './text'

// A document beside a mapping that is being made. The mapping's text is the
// one truth: fields, paper and bands all follow from it.
const YamlEditor = defineAsyncComponent(() => import('./YamlEditor.vue'))
const props = defineProps<{ sha: string; name: string }>()
const router = useRouter()
const queries = useQueryClient()
const path = { params: { path: { document: props.sha } } }

const { data: doc, error, refetch } = useQuery({ queryKey: ['document', props.sha], queryFn: () => data(api.GET('/api/v1/documents/{document}', path)) })
const { data: fields } = useQuery({ queryKey: ['fields'], staleTime: Infinity, queryFn: () => data(api.GET('/api/v1/fields')) })
const { data: schema } = useQuery({ queryKey: ['schema'], staleTime: Infinity, queryFn: () => data(api.GET('/api/v1/mapping.schema.json')) as unknown as Promise<Schema> })

const text = ref('')
const kept = ref<Mapping>() // the version that the text began with
const sheet = ref('')
const { busy, failed, act } = useBusy()
const outline = computed(() => edit.outline(text.value))
const guesses = computed(() => edit.guesses(text.value))
const changed = computed(() => text.value !== (kept.value?.text ?? ''))


// Undo: every text that stood for a moment.
const past = ref<string[]>([])
const future = ref<string[]>([])
let stood = ''
let stepping = false
watch(text, (_, was) => {
  if (stepping || !was) return
  if (!stood) stood = was
  future.value = []
})
function settle() {
  if (stood && stood !== text.value) past.value = [...past.value.slice(-99), stood]
  stood = ''
}
function step(from: typeof past, to: typeof past) {
  settle()
  const t = from.value[from.value.length - 1]
  if (t === undefined) return
  stepping = true
  from.value = from.value.slice(0, -1)
  to.value = [...to.value, text.value]
  text.value = t
  queueMicrotask(() => (stepping = false))
}
const undo = () => step(past, future)
const redo = () => step(future, past)
function apply(next: string) {
  settle()
  text.value = next
}

// The grid's rows are fetched once; what the mapping makes of them again and again.
const grid = useTemplateRef<InstanceType<typeof SourceGrid>>('grid')
const preview = ref<Preview>()
const mistakes = ref<Finding[]>([])
const seq = ref(0)
const pointed = ref<Spot>()
const picked = ref<Spot>()
const pickedCells = ref<string[]>([])
const seen = { from: 1, to: 200 }
const cache = new Map<string, Promise<RowsOutcome>>()
async function look(from: number, to: number, row?: number, order?: number): Promise<Preview | undefined> {
  try {
    const p = await data(api.POST('/api/v1/documents/{document}/preview', { ...path, body: { mapping: { text: text.value }, sheet: sheet.value || undefined, from, to, row, seq: order } }))
    mistakes.value = []
    return p
  } catch (e) {
    if (!(e instanceof ProblemError)) throw e
    mistakes.value = e.problem.findings?.length ? e.problem.findings : [{ code: e.problem.code, severity: 'error', place: {}, at: '', message: e.problem.detail ?? e.problem.title } as Finding]
    return undefined
  }
}
async function fetchRows(from: number, limit: number): Promise<RowsOutcome> {
  const key = `${sheet.value} ${from}`
  if (!cache.has(key)) {
    const rows = data(api.GET('/api/v1/documents/{document}/rows', { ...path, params: { ...path.params, query: { sheet: sheet.value || undefined, from, limit } } })).then((r) => ({ ...r, spans: [], findings: [] }))
    rows.catch(() => cache.delete(key))
    cache.set(key, rows)
  }
  const rows = await cache.get(key)!
  if (!text.value) return rows
  seen.from = from
  seen.to = from + limit - 1
  const p = await look(from, from + limit - 1, undefined, seq.value || undefined)
  if (!p) return rows
  preview.value = { ...p, paper: p.paper ?? preview.value?.paper }
  return { ...rows, spans: p.spans, findings: p.paper?.findings ?? [] }
}
let timer = 0
watch([text, sheet], () => {
  clearTimeout(timer)
  timer = window.setTimeout(() => {
    settle()
    void grid.value?.reload()
  }, 250)
})
async function onPick(spot: Spot, order: number) {
  picked.value = spot
  const block = await cache.get(`${sheet.value} ${Math.floor((spot.row - 1) / 200) * 200 + 1}`)
  pickedCells.value = block?.rows.find((r) => r.row === spot.row)?.cells ?? []
  if (armed.value) return bindColumn(spot.column)
  if (order && order !== seq.value) {
    seq.value = order
    await grid.value?.reload()
  }
}

const roles = computed(() => {
  const m = new Map<number, Role>()
  for (const c of preview.value?.columns ?? []) m.set(c.column, { role: c.role, fields: c.fields })
  return m
})
/** Where the records of the paper's lines stand. */
const lineRecords = () => (preview.value?.paper?.places ?? []).filter((l) => l.line && !l.field)
const tree = computed(() => doc.value?.shape.format === 'json' || doc.value?.shape.format === 'ndjson')
const headings = ref<{ column: number; heading: string }[]>([])
watch([() => preview.value?.heading, sheet, doc], async () => {
  const row = preview.value?.heading
  if (!doc.value || tree.value) return
  const width = Math.max(...(preview.value?.columns ?? []).map((c) => c.column), 0)
  const answer = row ? await data(api.GET('/api/v1/documents/{document}/rows', { ...path, params: { ...path.params, query: { sheet: sheet.value || undefined, from: row, limit: 1 } } })) : { rows: [] }
  const cells = answer.rows[0]?.cells ?? []
  headings.value = Array.from({ length: Math.max(width, cells.length) }, (_, i) => ({ column: i + 1, heading: (cells[i] ?? '').replace(/\s+/g, ' ').trim() }))
}, { immediate: true })
/** how a binding names a column: by its heading where that is clear, else by its letter. */
function named(column: number): string {
  const h = headings.value.find((x) => x.column === column)?.heading ?? ''
  return h && headings.value.filter((x) => x.heading === h).length === 1 ? h : `@${columnName(column)}`
}
const columns = computed(() => {
  if (tree.value) {
    const paths = new Set([...(outline.value?.bound.map((b) => b.from).filter((f) => f) ?? []), ...(preview.value?.coverage.unbound.map((u) => u.heading ?? '') ?? [])])
    return [...paths].map((value) => ({ value, label: value }))
  }
  const list = headings.value.map((h) => ({ value: named(h.column), label: h.heading ? `${h.heading} (${columnName(h.column)})` : columnName(h.column) }))
  for (const b of outline.value?.bound ?? []) if (b.from && !b.label && !list.some((x) => x.value === b.from)) list.push({ value: b.from, label: b.from })
  return list
})

const tab = ref<'fields' | 'paper' | 'yaml'>('fields')
const armed = ref('')
const line = computed(() => {
  const rows = lineRecords().map((l) => l.place.row ?? 0)
  const i = rows.indexOf(picked.value?.row ?? -1)
  return i < 0 ? 0 : i
})
function bindColumn(column: number) {
  const [level, ...field] = armed.value.split('.')
  armed.value = ''
  if (!level) return
  if (!tree.value) return apply(edit.bind(text.value, level, field.join('.'), named(column)))
  const found = pathUnder(level)
  if (!found) return
  let next = edit.bind(text.value, level, field.join('.'), found.path)
  if (found.of) next = edit.say(next, level, field.join('.'), 'of', found.of)
  apply(next)
}
/** pathUnder turns the pointer in the row under the cursor into a path from its record. */
function pathUnder(level: string): { path: string; of: string } | undefined {
  const pointer = pickedCells.value.find((c) => c.startsWith('/'))
  const paper = preview.value?.paper
  if (!pointer || !paper) return undefined
  const line = lineRecords().map((l) => l.place.pointer ?? '').find((p) => p && pointer.startsWith(p + '/'))
  const [base, of] = level === 'lines' && line ? [line, ''] : pointer.startsWith(paper.base + '/') ? [paper.base ?? '', level === 'lines' ? 'order' : ''] : ['', 'document']
  const names = pointer.slice(base.length + 1).split('/').map((n) => n.replace(/~1/g, '/').replace(/~0/g, '~'))
  const path = names.map((n) => (/^\d+$/.test(n) ? `[${n}]` : /^[A-Za-z_]\w*$/.test(n) ? `.${n}` : `['${n}']`)).join('')
  return { path: names.length === 1 && /^[A-Za-z_]\w*$/.test(names[0]!) ? names[0]! : `$${path}`, of }
}
const onColumn = (c: number) => armed.value && bindColumn(c)
const groups = ['key', 'opener', 'gap', 'rowkind', 'count', 'sheet', 'file', 'form', 'join', 'path']
const regroup = (by: string, cols?: string[], rows?: string) => apply(edit.setGroup(text.value, { by, columns: cols ?? outline.value?.columns, rows: rows ?? outline.value?.rows }))
const unbound = computed(() => preview.value?.coverage.unbound ?? [])
const misses = computed(() => preview.value?.coverage.misses ?? [])
const errors = computed(() => (preview.value?.reasons ?? []).filter((r) => r.severity === 'error'))

function draft() {
  return act('draft', async () => {
    const p = await data(api.POST('/api/v1/documents/{document}/draft', { ...path, body: { name: (doc.value?.name ?? 'draft').replace(/\.[^.]*$/, '').toLowerCase().replace(/[^a-z0-9]+/g, '-').replace(/^-|-$/g, '').slice(0, 60) || 'draft' } }))
    apply(p.text)
    tab.value = 'fields'
  })
}
const keep = () =>
  act('keep', async () => {
    kept.value = await sendText<Mapping>('/api/v1/mappings', 'POST', 'application/yaml', text.value)
    await queries.invalidateQueries({ queryKey: ['mappings'] })
  })
const dryRun = () =>
  act('dry', async () => {
    if (changed.value || !kept.value) await keep()
    if (failed.value) return
    const l = await data(api.POST('/api/v1/loads', { body: { document: props.sha, mapping: kept.value!.name, version: kept.value!.version, dry_run: true } }))
    await router.push(`/loads/${l.id}`)
  })
const effect = ref<Comparison>()
const compare = () =>
  act('compare', async () => {
    effect.value = await data(api.POST('/api/v1/documents/{document}/comparison', { ...path, body: { was: { name: kept.value!.name, version: kept.value!.version }, is: { text: text.value } } }))
  })

onMounted(async () => {
  window.addEventListener('keydown', onKey)
  if (!props.name) return // the draft begins when the document is known
  await act('open', async () => {
    kept.value = await data(api.GET('/api/v1/mappings/{name}', { params: { path: { name: props.name } } }))
    text.value = kept.value.text ?? ''
  })
})
onUnmounted(() => window.removeEventListener('keydown', onKey))
watch(doc, (d) => {
  if (!sheet.value) sheet.value = d?.shape.sheets?.[0] ?? ''
  if (d && !props.name && !text.value) void draft()
}, { immediate: true })
function onKey(e: KeyboardEvent) {
  if ((e.target as HTMLElement).closest('.cm-editor, input, textarea')) return
  if ((e.ctrlKey || e.metaKey) && e.key === 'z') {
    e.preventDefault()
    if (e.shiftKey) redo()
    else undo()
  }
  if (e.key === 'Escape') armed.value = ''
}
</script>

<template>
  <div class="page full">
    <StateNote v-if="error" :error="error" @retry="refetch()" />
    <template v-else-if="doc">
      <div class="bar">
        <h1>Workbench</h1>
        <span class="soft"><RouterLink :to="`/documents/${sha}`">{{ doc.name }}</RouterLink></span>
        <InputText v-if="outline" size="small" :model-value="outline.name" aria-label="Name of the mapping" @change="apply(edit.setName(text, ($event.target as HTMLInputElement).value.trim()))" />
        <span class="soft">{{ kept ? (outline?.name !== kept.name ? `a copy of ${kept.name} v${kept.version}` : `version ${kept.version}${changed ? ', changed' : ''}`) : 'not kept yet' }}</span>
        <span class="grow" />
        <Button size="small" text label="Undo" :disabled="!past.length" title="Ctrl+Z" @click="undo" />
        <Button size="small" text label="Redo" :disabled="!future.length" @click="redo" />
        <Button size="small" text label="Draft anew" :loading="busy === 'draft'" @click="draft" />
        <Button v-if="kept && changed" size="small" text label="What changes?" :loading="busy === 'compare'" @click="compare" />
        <Button size="small" outlined :label="kept && outline?.name === kept.name ? 'Keep as a new version' : 'Keep'" :disabled="!changed || mistakes.length > 0" :loading="busy === 'keep'" @click="keep" />
        <Button size="small" label="Dry run" :disabled="mistakes.length > 0" :loading="busy === 'dry'" @click="dryRun" />
      </div>
      <div v-if="outline" class="bar group">
        <span v-if="outline.extends" class="soft">What is not said here is as in <code>{{ outline.extends }}</code>, which ships with Koinos.</span>
        <template v-else>
        <label>The orders are <Select size="small" :model-value="outline.kind" :options="['sales', 'purchase']" aria-label="Kind of order" @update:model-value="apply(edit.setKind(text, $event))" /><span v-if="guesses.has('orders.kind')" class="warn" :title="guesses.get('orders.kind')">?</span></label>
        <label>and begin by <Select size="small" :model-value="outline.by" :options="groups" aria-label="Grouping" @update:model-value="regroup($event)" /></label>
        </template>
        <label v-if="['key', 'opener', 'gap', 'rowkind'].includes(outline.by)">of <MultiSelect size="small" :model-value="outline.columns" :options="columns" option-label="label" option-value="value" filter :max-selected-labels="2" placeholder="no column" aria-label="Columns of the grouping" @update:model-value="regroup(outline.by, $event)" /></label>
        <label v-if="outline.by === 'key'">rows stand <Select size="small" :model-value="outline.rows || 'adjacent'" :options="['adjacent', 'anywhere']" aria-label="Where rows of one order stand" @update:model-value="regroup('key', undefined, $event)" /></label>
        <span v-if="guesses.has('orders.group')" class="warn">? {{ guesses.get('orders.group') }}</span>
        <span class="grow" />
        <span v-if="preview" role="status"><b>{{ preview.orders }}</b> orders, <b>{{ preview.lines }}</b> lines<template v-if="preview.refused">, <b class="err">{{ preview.refused }}</b> refused</template><span v-if="!preview.complete" class="soft"> in the first {{ preview.rows.toLocaleString('en') }} rows</span></span>
      </div>
      <StateNote v-if="failed" :error="failed" class="sheet" @retry="failed = undefined" />
      <div v-if="mistakes.length" class="sheet mistakes" role="alert">
        <p v-for="(f, i) in mistakes.slice(0, 4)" :key="i"><b>{{ f.at }}</b> {{ f.message }} <span class="soft">{{ f.hint }}</span></p>
      </div>
      <div class="split">
        <div class="left">
          <SourceGrid v-if="text || busy !== 'draft'" ref="grid" :key="sheet" :fetch-rows="fetchRows" :lit="pointed" :order="seq || preview?.paper?.seq" :roles="tree ? undefined : roles" :heading="preview?.heading" :armed="!!armed" @pick="onPick" @column="onColumn" />
          <div v-if="doc.shape.sheets && doc.shape.sheets.length > 1" class="bar"><Button v-for="s in doc.shape.sheets" :key="s" size="small" text :label="s" :outlined="s === sheet" @click="sheet = s" /></div>
        </div>
        <div class="side">
          <div class="tabs" role="tablist">
            <button type="button" role="tab" :aria-selected="tab === 'fields'" @click="tab = 'fields'">Fields</button>
            <button type="button" role="tab" :aria-selected="tab === 'paper'" @click="tab = 'paper'">Order paper</button>
            <button type="button" role="tab" :aria-selected="tab === 'yaml'" @click="tab = 'yaml'">YAML</button>
          </div>
          <div class="sheet panel">
            <FieldTable
              v-if="tab === 'fields' && outline" :bound="outline.bound" :fields="fields?.items ?? []" :columns="columns" :guesses="guesses" :order="preview?.paper?.order" :line="line" :findings="preview?.paper?.findings ?? []" :armed="armed" :extends="!!outline.extends"
              @bind="(l, f, from) => apply(edit.bind(text, l, f, from))" @drop="(l, f, c) => apply(edit.bind(text, l, f, named(c)))" @unbind="(l, f) => apply(edit.unbind(text, l, f))" @arm="armed = $event"
              @confirm="(l, f) => apply(edit.confirm(text, l, f))" @say="(l, f, w, v) => apply(edit.say(text, l, f, w, v))" @fix="(l, f, v) => apply(edit.fix(text, l, f, v))"
            />
            <OrderPaper v-else-if="tab === 'paper' && preview?.paper" :order="preview.paper.order" :places="preview.paper.places" :findings="preview.paper.findings" :mark="preview.paper.refused ? 'refused' : 'ready'" :lit="picked" @point="pointed = $event" @pick="grid?.goTo($event)" />
            <YamlEditor v-else-if="tab === 'yaml'" v-model="text" :findings="mistakes" :schema="schema" :columns="columns.map((c) => c.value)" />
            <StateNote v-else-if="!text" :loading="busy === 'draft'" empty="Draft a mapping, or write one." />
            <StateNote v-else empty="Choose a row at the left to see its order; the YAML shows what keeps the mapping from being understood." />
          </div>
          <div class="sheet todo">
            <div v-if="unbound.length" class="bar">
              <b>Feed nothing:</b>
              <span v-for="u in unbound.slice(0, 12)" :key="`${u.sheet} ${u.column} ${u.heading}`" class="chip" :title="`${u.filled} values, such as ${u.sample}`">{{ u.heading || u.column }} <button type="button" :aria-label="`Leave ${u.heading || u.column} out on purpose`" title="Leave it out on purpose" @click="apply(edit.leaveOut(text, u.heading || `@${u.column}`, true))">×</button></span>
            </div>
            <div v-if="outline?.unused.length" class="bar soft">Left out on purpose: <span v-for="u in outline.unused" :key="u" class="chip">{{ u }} <button type="button" :aria-label="`Take ${u} back`" title="Take it back" @click="apply(edit.leaveOut(text, u, false))">↺</button></span></div>
            <div v-if="misses.length" class="bar"><b>Lists do not know:</b> <RouterLink v-for="m in misses.slice(0, 6)" :key="m.list + m.value" class="chip" :to="`/lists/${m.crosswalk ? 'crosswalks' : 'lists'}/${m.list}`" :title="`${m.list}, ${m.count} times${m.nearest ? `; nearest: ${m.nearest}` : ''}; opens the list`">{{ m.value }}</RouterLink><span v-if="misses.length > 6" class="soft">and {{ misses.length - 6 }} more</span></div>
            <div v-for="r in errors.slice(0, 3)" :key="r.code + r.field" class="err">{{ count(r.count, 'time') }}: {{ r.field ? `${r.field}: ` : '' }}{{ r.title }} <span class="soft">{{ r.example.at }}</span></div>
            <div v-if="!unbound.length && !misses.length && !errors.length && preview" class="good">Every column feeds a field, and no order is refused.</div>
          </div>
        </div>
      </div>
      <Dialog :visible="!!effect" modal header="What the change does to this document" :style="{ width: '56rem' }" @update:visible="effect = undefined"><EffectTable v-if="effect" :effect="effect" /></Dialog>
    </template>
  </div>
</template>

<style scoped>
.group label { display: flex; gap: 6px; align-items: center; color: var(--ink-soft); font-size: 13px; }
.left { display: flex; flex-direction: column; gap: 6px; min-height: 0; }
.left > :first-child { flex: 1; min-height: 0; }
.side { display: flex; flex-direction: column; min-height: 0; gap: 0; }
.panel { flex: 1; overflow: auto; min-height: 0; }
.tabs { display: flex; gap: 2px; }
.tabs button { font: inherit; color: var(--ink-soft); background: none; border: 1px solid transparent; border-bottom: 0; padding: 5px 12px; cursor: pointer; border-radius: 3px 3px 0 0; }
.tabs button[aria-selected='true'] { color: var(--ink); background: var(--paper); border-color: var(--rule); }
.todo { margin-top: 8px; padding: 8px 12px; display: flex; flex-direction: column; gap: 5px; font-size: 12.5px; max-height: 150px; overflow: auto; }
.todo .bar { gap: 6px; }
.chip { border: 1px solid var(--rule); border-radius: 3px; padding: 0 2px 0 7px; background: var(--desk); }
.chip button { font: inherit; border: 0; background: none; color: var(--ink-soft); cursor: pointer; padding: 0 5px; }
.chip button:hover { color: var(--ink); }
.mistakes { padding: 6px 12px; border-left: 3px solid var(--error); font-size: 13px; }
.mistakes p { margin: 2px 0; }
.err { color: var(--error); }
.warn { color: var(--warning); }
.good { color: var(--good); }
</style>
