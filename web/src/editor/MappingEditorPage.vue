<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import { computed, defineAsyncComponent, onMounted, onUnmounted, ref, useTemplateRef, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, data, sendText, type Comparison, type Mapping, type NewDraft } from '../api/client'
import { useBusy } from '../busy'
import OrderPaper from '../components/OrderPaper.vue'
import SourceGrid, { type Role } from '../components/SourceGrid.vue'
import StateNote from '../components/StateNote.vue'
import TabStrip from '../components/TabStrip.vue'
import type { Spot } from '../places'
import EffectTable from './EffectTable.vue'
import FieldTable from './FieldTable.vue'
import GroupBar from './GroupBar.vue'
import { useHistory } from './history'
import { pathUnder } from './naming'
import OpenEnds from './OpenEnds.vue'
import { usePreview } from './preview'
import { useSources } from './sources'
import type { Schema } from './suggest'
import * as edit from './text'

// A document beside a mapping that is being made. The mapping's text is the
// one truth: fields, paper and bands all follow from it.
const YamlEditor = defineAsyncComponent(() => import('./YamlEditor.vue'))
const props = defineProps<{ sha: string; name: string }>()
const router = useRouter()
const queries = useQueryClient()
const path = { params: { path: { document: props.sha } } }

const {
  data: doc,
  error,
  refetch,
} = useQuery({ queryKey: ['document', props.sha], queryFn: () => data(api.GET('/api/v1/documents/{document}', path)) })
const { data: fields } = useQuery({
  queryKey: ['fields'],
  staleTime: Infinity,
  queryFn: () => data(api.GET('/api/v1/fields')),
})
const { data: schema } = useQuery({
  queryKey: ['schema'],
  staleTime: Infinity,
  queryFn: () => data(api.GET('/api/v1/mapping.schema.json')) as unknown as Promise<Schema>,
})

const text = ref('')
const kept = ref<Mapping>() // the version that the text began with
const sheet = ref('')
const tree = computed(() => doc.value?.shape.format === 'json' || doc.value?.shape.format === 'ndjson')
const { busy, failed, act } = useBusy()
const outline = computed(() => edit.outline(text.value))
const guesses = computed(() => edit.guesses(text.value))
const changed = computed(() => text.value !== (kept.value?.text ?? ''))
const { past, future, settle, apply, undo, redo } = useHistory(text)
const edited = computed({ get: () => text.value, set: apply })
const { preview, mistakes, seq, fetchRows, cellsOf } = usePreview(props.sha, text, sheet)
const { columns, named } = useSources(props.sha, sheet, tree, preview, outline)

const grid = useTemplateRef<InstanceType<typeof SourceGrid>>('grid')
let timer = 0
watch([text, sheet], () => {
  clearTimeout(timer)
  timer = window.setTimeout(() => {
    settle()
    void grid.value?.reload()
  }, 250)
})

// What the pointer and the cursor are at, in the paper and in the grid.
const pointed = ref<Spot>()
const picked = ref<Spot>()
const pickedCells = ref<string[]>([])
async function onPick(spot: Spot, order: number) {
  picked.value = spot
  pickedCells.value = await cellsOf(spot.row)
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
const lineRecords = computed(() =>
  (preview.value?.paper?.places ?? []).filter((l) => l.line && !l.field).map((l) => l.place),
)
const line = computed(() =>
  Math.max(
    0,
    lineRecords.value.findIndex((p) => p.row === picked.value?.row),
  ),
)

const tab = ref<'fields' | 'paper' | 'yaml'>('fields')
const tabs = [
  { id: 'fields', label: 'Fields' },
  { id: 'paper', label: 'Order paper' },
  { id: 'yaml', label: 'YAML' },
] as const

const armed = ref('') // the field that waits for its column
function bindColumn(column: number) {
  const [level, ...field] = armed.value.split('.')
  armed.value = ''
  if (!level) return
  if (!tree.value) return apply(edit.bind(text.value, level, field.join('.'), named(column)))
  const pointer = pickedCells.value.find((c) => c.startsWith('/'))
  if (!pointer || !preview.value?.paper) return
  const found = pathUnder(
    pointer,
    level,
    preview.value.paper.base ?? '',
    lineRecords.value.map((p) => p.pointer ?? ''),
  )
  const next = edit.bind(text.value, level, field.join('.'), found.path)
  apply(found.of ? edit.say(next, level, field.join('.'), 'of', found.of) : next)
}
const onColumn = (c: number) => armed.value && bindColumn(c)

/** Why the document may be none of orders, as the draft found. */
const doubt = ref('')
const rather = ref<NewDraft['kind']>()
/** Whether the draft was made for what the mapping now says that a record is. */
const orders = ['sales', 'purchase']
const draftedAs = ref('')
const otherwise = computed(() => {
  const kind = outline.value?.kind ?? ''
  return draftedAs.value && kind && !orders.includes(kind) && kind !== draftedAs.value ? kind : ''
})
function draft(as?: NewDraft['kind']) {
  return act('draft', async () => {
    const said = as ?? (outline.value?.kind && !guesses.value.has('orders.kind') ? outline.value.kind : undefined)
    const kind = said as NewDraft['kind']
    const of = said && !orders.includes(said) && outline.value?.of ? (outline.value.of as NewDraft['of']) : undefined
    draftedAs.value = said ?? 'orders'
    const p = await data(
      api.POST('/api/v1/documents/{document}/draft', {
        ...path,
        body: {
          kind,
          of,
          name:
            (doc.value?.name ?? 'draft')
              .replace(/\.[^.]*$/, '')
              .toLowerCase()
              .replace(/[^a-z0-9]+/g, '-')
              .replace(/^-|-$/g, '')
              .slice(0, 60) || 'draft',
        },
      }),
    )
    doubt.value = p.no_orders ?? ''
    rather.value = p.as as NewDraft['kind']
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
    const l = await data(
      api.POST('/api/v1/loads', {
        body: { document: props.sha, mapping: kept.value!.name, version: kept.value!.version, dry_run: true },
      }),
    )
    await router.push(`/loads/${l.id}`)
  })
const effect = ref<Comparison>()
const compare = () =>
  act('compare', async () => {
    effect.value = await data(
      api.POST('/api/v1/documents/{document}/comparison', {
        ...path,
        body: { was: { name: kept.value!.name, version: kept.value!.version }, is: { text: text.value } },
      }),
    )
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
watch(
  doc,
  (d) => {
    if (!sheet.value) sheet.value = d?.shape.sheets?.[0] ?? ''
    if (d && !props.name && !text.value) void draft()
  },
  { immediate: true },
)
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
        <h1>Mapping editor</h1>
        <span class="soft"><RouterLink :to="`/documents/${sha}`">{{ doc.name }}</RouterLink></span>
        <InputText v-if="outline" size="small" :model-value="outline.name" aria-label="Name of the mapping" @change="apply(edit.setName(text, ($event.target as HTMLInputElement).value.trim()))" />
        <span class="soft">{{ kept ? (outline?.name !== kept.name ? `a copy of ${kept.name} v${kept.version}` : `version ${kept.version}${changed ? ', changed' : ''}`) : 'not kept yet' }}</span>
        <span class="grow" />
        <Button size="small" text label="Undo" :disabled="!past.length" title="Ctrl+Z" @click="undo" />
        <Button size="small" text label="Redo" :disabled="!future.length" @click="redo" />
        <RouterLink to="/docs/mapping" target="_blank" class="soft">Every word explained</RouterLink>
        <Button size="small" text label="Draft again" :loading="busy === 'draft'" @click="draft()" />
        <Button v-if="kept && changed" size="small" text label="What changes?" :loading="busy === 'compare'" @click="compare" />
        <Button size="small" outlined :label="kept && outline?.name === kept.name ? 'Keep as a new version' : 'Keep'" :disabled="!changed || mistakes.length > 0" :loading="busy === 'keep'" @click="keep" />
        <Button size="small" label="Dry run" :disabled="mistakes.length > 0" :loading="busy === 'dry'" @click="dryRun" />
      </div>
      <GroupBar v-if="outline" v-model="edited" :outline="outline" :guesses="guesses" :columns="columns" :preview="preview" :schema="schema" />
      <div v-if="doubt" class="sheet doubt" role="status"><span>{{ doubt }} <template v-if="!rather">Look at the draft with care before you keep it.</template></span><Button v-if="rather" size="small" outlined :label="`Draft it as ${rather}`" :loading="busy === 'draft'" @click="draft(rather)" /><Button size="small" text label="Put away" @click="doubt = ''" /></div>
      <div v-if="otherwise" class="sheet doubt" role="status"><span>The columns were looked at as those of orders, not of {{ /^[aeiou]/.test(otherwise) ? 'an' : 'a' }} {{ otherwise }}.</span><Button size="small" text :label="`Draft it as ${otherwise}`" :loading="busy === 'draft'" @click="draft()" /></div>
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
          <TabStrip v-model="tab" :tabs="[...tabs]" panel="editor-panel" label="The mapping" />
          <div id="editor-panel" class="sheet panel" role="tabpanel" :aria-labelledby="`editor-panel-${tab}`">
            <FieldTable
              v-if="tab === 'fields' && outline" :bound="outline.bound" :fields="fields?.items ?? []" :columns="columns" :guesses="guesses" :order="preview?.paper?.order" :line="line" :findings="preview?.paper?.findings ?? []" :armed="armed" :extends="!!outline.extends" :kind="outline.kind"
              @bind="(l, f, from) => apply(edit.bind(text, l, f, from))" @drop="(l, f, c) => apply(edit.bind(text, l, f, named(c)))" @unbind="(l, f) => apply(edit.unbind(text, l, f))" @arm="armed = $event"
              @confirm="(l, f) => apply(edit.confirm(text, l, f))" @say="(l, f, w, v) => apply(edit.say(text, l, f, w, v))" @fix="(l, f, v) => apply(edit.fix(text, l, f, v))"
            />
            <OrderPaper v-else-if="tab === 'paper' && preview?.paper" :order="preview.paper.order" :places="preview.paper.places" :findings="preview.paper.findings" :mark="preview.paper.refused ? 'refused' : 'ready'" :lit="picked" @point="pointed = $event" @pick="grid?.goTo($event)" />
            <YamlEditor v-else-if="tab === 'yaml'" v-model="text" :findings="mistakes" :schema="schema" :columns="columns.map((c) => c.value)" />
            <StateNote v-else-if="!text" :loading="busy === 'draft'" empty="Draft a mapping, or write one." />
            <StateNote v-else empty="Choose a row at the left to see its order; the YAML shows what keeps the mapping from being understood." />
          </div>
          <OpenEnds v-model="edited" :preview="preview" :unused="outline?.unused ?? []" />
        </div>
      </div>
      <Dialog :visible="!!effect" modal header="What the change does to this document" :style="{ width: '56rem' }" @update:visible="effect = undefined"><EffectTable v-if="effect" :effect="effect" /></Dialog>
    </template>
  </div>
</template>

<style scoped>
.left {
  display: flex;
  flex-direction: column;
  gap: 6px;
  min-height: 0;
}
.left > :first-child {
  flex: 1;
  min-height: 0;
}
.side {
  display: flex;
  flex-direction: column;
  min-height: 0;
  gap: 0;
}
.panel {
  flex: 1;
  overflow: auto;
  min-height: 0;
}
.mistakes {
  padding: 6px 12px;
  border-left: 3px solid var(--error);
  font-size: 13px;
}
.mistakes p {
  margin: 2px 0;
}
.doubt {
  display: flex;
  justify-content: space-between;
  align-items: center;
  border-left: 3px solid var(--warning);
  padding: 4px 8px 4px 14px;
}
</style>
