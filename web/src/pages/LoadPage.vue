<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import ProgressBar from 'primevue/progressbar'
import { computed, nextTick, onMounted, onUnmounted, ref, useTemplateRef, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, data, download, watchLoad, type Finding, type Load } from '../api/client'
import OrderPaper from '../components/OrderPaper.vue'
import OutcomeMark from '../components/OutcomeMark.vue'
import ReasonList from '../components/ReasonList.vue'
import SourceGrid, { type Spot } from '../components/SourceGrid.vue'
import StateNote from '../components/StateNote.vue'
import { useBusy } from '../busy'
import { count, loadWord } from '../format'

const props = defineProps<{ id: number }>()
const router = useRouter()
const queries = useQueryClient()
const { data: report, error, isPending, refetch } = useQuery({
  queryKey: ['load', () => props.id],
  queryFn: () => data(api.GET('/api/v1/loads/{id}', { params: { path: { id: props.id } } })),
})

// While it runs, the load comes by server-sent events.
const live = ref<Load>()
const load = computed(() => live.value ?? report.value?.load)
let watching: AbortController | undefined
watch(report, (r) => {
  if (r?.load.status !== 'running' || watching) return
  watching = new AbortController()
  watchLoad(props.id, (l) => (live.value = l), watching.signal)
    .then(async () => {
      watching = undefined
      await refetch()
      live.value = undefined
      await grid.value?.reload()
    })
    .catch(() => (watching = undefined))
})
watch(() => props.id, () => {
  watching?.abort()
  watching = undefined
  live.value = undefined
  seq.value = 0
  sheet.value = ''
  tab.value = 'reasons'
})
onMounted(() => window.addEventListener('keydown', onKey))
onUnmounted(() => {
  watching?.abort()
  window.removeEventListener('keydown', onKey)
})

const grid = useTemplateRef<InstanceType<typeof SourceGrid>>('grid')
const reasons = useTemplateRef<InstanceType<typeof ReasonList>>('reasons')
const tab = ref<'reasons' | 'paper'>('reasons')
const seq = ref(0)
const pointed = ref<Spot>() // cell that the paper points at
const picked = ref<Spot>() // cell chosen in the grid
const { data: paper, error: paperError, isFetching: paperLoading } = useQuery({
  queryKey: ['paper', () => props.id, seq],
  enabled: computed(() => seq.value > 0),
  queryFn: () => data(api.GET('/api/v1/loads/{id}/orders/{seq}', { params: { path: { id: props.id, seq: seq.value } } })),
})

const sheet = ref('') // blank: the first in which orders were found
const fetchRows = (from: number, limit: number) => data(api.GET('/api/v1/loads/{id}/rows', { params: { path: { id: props.id }, query: { from, limit, sheet: sheet.value || undefined } } }))
function onPick(spot: Spot, order: number) {
  picked.value = spot
  if (order) {
    seq.value = order
    if (!stepping) tab.value = 'paper'
  }
}
let stepping = false
async function go(f: Finding) {
  if (!f.place.row || f.place.mapping) return
  stepping = true
  if (f.place.sheet && f.place.sheet !== (sheet.value || report.value?.sheets[0])) {
    sheet.value = f.place.sheet
    await nextTick()
  }
  await grid.value?.goTo({ row: f.place.row, column: f.place.column || 1 })
  stepping = false
}

const { busy, failed, act } = useBusy()
const loadForReal = () =>
  act('load', async () => {
    const d = load.value!
    const l = await data(api.POST('/api/v1/loads', { body: { document: d.document, mapping: d.mapping, all_or_none: d.all_or_none } }))
    await queries.invalidateQueries({ queryKey: ['loads'] })
    await router.push(`/loads/${l.id}`)
  })
const cancel = () => act('cancel', () => data(api.POST('/api/v1/loads/{id}/cancel', { params: { path: { id: props.id } } })))
const save = (format: string) => act(format, () => download(`/api/v1/loads/${props.id}/report?format=${format}`))

const figures = computed(() => {
  const l = load.value!
  return [
    { n: l.loaded, word: 'loaded', mark: 'loaded' }, { n: l.ready, word: 'would be loaded', mark: 'ready' }, { n: l.unchanged, word: 'unchanged', mark: 'unchanged' },
    { n: l.withheld, word: 'withheld', mark: 'withheld' }, { n: l.refused, word: 'refused', mark: 'refused' },
  ].filter((f) => f.n > 0)
})
function onKey(e: KeyboardEvent) {
  if (e.target instanceof HTMLInputElement || e.ctrlKey || e.metaKey || e.altKey) return
  if (e.key === 'n' || e.key === 'p') {
    tab.value = 'reasons'
    reasons.value?.step(e.key === 'n' ? 1 : -1)
  } else if (e.key === 'o') tab.value = tab.value === 'paper' ? 'reasons' : 'paper'
}
</script>

<template>
  <div class="page full">
    <StateNote v-if="error || isPending" :error="error" :loading="isPending" @retry="refetch()" />
    <template v-else-if="load">
      <div class="bar">
        <h1>{{ load.dry_run ? 'Dry run' : 'Load' }} {{ load.id }}</h1>
        <span><RouterLink :to="`/documents/${load.document}`">{{ load.document_name }}</RouterLink> <span class="soft">through {{ load.mapping }} v{{ load.mapping_version }}</span></span>
        <OutcomeMark :word="loadWord(load)" />
        <span class="grow" />
        <Button v-if="load.status === 'running'" size="small" outlined label="Stop" :loading="busy === 'cancel'" @click="cancel" />
        <template v-else>
          <Button size="small" text label="Findings as CSV" :disabled="!report?.reasons.length" :loading="busy === 'csv'" @click="save('csv')" />
          <Button size="small" outlined label="Marked-up copy" :loading="busy === 'marked'" @click="save('marked')" />
          <Button v-if="load.dry_run && load.ready > 0" size="small" :label="load.refused ? `Load the ${load.ready} good orders` : `Load ${count(load.ready, 'order')}`" :loading="busy === 'load'" @click="loadForReal" />
          <RouterLink v-else-if="load.loaded" :to="{ path: '/orders', query: { load: load.id } }">The orders</RouterLink>
        </template>
      </div>
      <div class="bar figures">
        <span><b>{{ load.orders.toLocaleString('en') }}</b> {{ load.orders === 1 ? 'order' : 'orders' }} in {{ count(load.rows, 'row') }}</span>
        <span v-for="f in figures" :key="f.word"><b>{{ f.n.toLocaleString('en') }}</b> <OutcomeMark :word="f.mark" /><span v-if="f.word !== f.mark">&nbsp;({{ f.word }})</span></span>
        <span v-if="load.warnings"><b>{{ load.warnings.toLocaleString('en') }}</b> <span class="warn">{{ load.warnings === 1 ? 'warning' : 'warnings' }}</span></span>
        <span v-if="report && report.sheets.length > 1" class="bar">
          <Button v-for="s in report.sheets" :key="s" size="small" :label="s" :outlined="s !== (sheet || report.sheets[0])" @click="sheet = s" />
        </span>
        <span v-if="load.status === 'failed'" class="err">The load stopped before the document's end.</span>
        <span v-if="load.status === 'interrupted' || load.status === 'cancelled'" class="warn">Load the document again: what went in is recognised.</span>
      </div>
      <ProgressBar v-if="load.status === 'running'" :value="Math.round(load.share * 100)" style="height: 16px" />
      <StateNote v-if="failed" :error="failed" class="sheet" @retry="failed = undefined" />
      <div class="split">
        <SourceGrid ref="grid" :key="`${id} ${sheet}`" :fetch-rows="fetchRows" :lit="pointed" :order="seq" @pick="onPick" />
        <div class="side">
          <div class="tabs" role="tablist">
            <button type="button" role="tab" :aria-selected="tab === 'reasons'" @click="tab = 'reasons'">Findings by reason</button>
            <button type="button" role="tab" :aria-selected="tab === 'paper'" @click="tab = 'paper'">Order paper</button>
            <span class="grow" /><span class="soft keys"><kbd>n</kbd> <kbd>p</kbd> next, previous finding</span>
          </div>
          <div v-show="tab === 'reasons'" class="sheet panel">
            <StateNote v-if="!report?.reasons.length" :empty="load.status === 'running' ? 'Findings appear when the load has ended.' : load.orders ? 'Nothing was found: every order is as it should be.' : 'No findings.'" />
            <ReasonList v-else ref="reasons" :key="id" :load="id" :reasons="report.reasons" @go="go" />
          </div>
          <div v-show="tab === 'paper'" class="panel">
            <StateNote v-if="!seq || paperError || (!paper && paperLoading)" class="sheet" :error="paperError" :loading="seq > 0 && paperLoading" empty="Choose a row at the left to see the order it belongs to." />
            <OrderPaper v-else-if="paper" :order="paper.order" :trace="paper.trace" :findings="paper.findings" :mark="paper.outcome.outcome" :lit="picked" @point="pointed = $event" @pick="grid?.goTo($event)">
              <p v-if="paper.outcome.order_id" class="stored"><RouterLink :to="`/orders/${paper.outcome.order_id}`">Open the stored order {{ paper.outcome.number }}</RouterLink></p>
            </OrderPaper>
          </div>
        </div>
      </div>
    </template>
  </div>
</template>

<style scoped>
.figures { gap: 18px; font-size: 13px; }
.figures b { font: 600 15px var(--serif); }
.warn { color: var(--warning); }
.err { color: var(--error); }
.side { display: flex; flex-direction: column; min-height: 0; }
.panel { flex: 1; overflow: auto; min-height: 0; }
.tabs { display: flex; gap: 2px; align-items: center; }
.tabs button { font: inherit; color: var(--ink-soft); background: none; border: 1px solid transparent; border-bottom: 0; padding: 5px 12px; cursor: pointer; border-radius: 3px 3px 0 0; }
.tabs button[aria-selected='true'] { color: var(--ink); background: var(--paper); border-color: var(--rule); }
.keys { font-size: 11.5px; }
.stored { margin: 12px 0 0; }
</style>
