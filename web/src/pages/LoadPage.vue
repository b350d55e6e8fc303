<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import { computed, nextTick, onMounted, onUnmounted, ref, useTemplateRef, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, data, download, watchLoad, type Finding, type Load, type Undone } from '../api/client'
import ChangeList from '../components/ChangeList.vue'
import LoadState from '../components/LoadState.vue'
import FixPanel, { type Fix } from '../components/FixPanel.vue'
import OrderPaper from '../components/OrderPaper.vue'
import OutcomeMark from '../components/OutcomeMark.vue'
import ReasonList from '../components/ReasonList.vue'
import SourceGrid from '../components/SourceGrid.vue'
import type { Spot } from '../places'
import StateNote from '../components/StateNote.vue'
import TabStrip from '../components/TabStrip.vue'
import { useBusy } from '../busy'
import { follow } from '../followed'
import { active, count, loadWord, minutes, when } from '../format'

const props = defineProps<{ id: number; first: string }>()
const router = useRouter()
const queries = useQueryClient()
const {
  data: report,
  error,
  isPending,
  refetch,
} = useQuery({
  queryKey: ['load', () => props.id],
  queryFn: () => data(api.GET('/api/v1/loads/{id}', { params: { path: { id: props.id } } })),
})

// While it runs, the load comes by server-sent events.
const live = ref<Load>()
const load = computed(() => live.value ?? report.value?.load)
let watching: AbortController | undefined
watch(report, (r) => {
  if (!r || !active(r.load) || watching) return
  follow(props.id)
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
watch(
  () => props.id,
  () => {
    undone.value = undefined
    watching?.abort()
    watching = undefined
    live.value = undefined
    seq.value = 0
    sheet.value = ''
    tab.value = props.first as Tab
  },
)
onMounted(() => window.addEventListener('keydown', onKey))
onUnmounted(() => {
  watching?.abort()
  window.removeEventListener('keydown', onKey)
})

const grid = useTemplateRef<InstanceType<typeof SourceGrid>>('grid')
const reasons = useTemplateRef<InstanceType<typeof ReasonList>>('reasons')
type Tab = 'reasons' | 'fix' | 'changes' | 'paper'
const tab = ref<Tab>(props.first as Tab)
const seq = ref(0)
const pointed = ref<Spot>() // cell that the paper points at
const picked = ref<Spot>() // cell chosen in the grid
const {
  data: paper,
  error: paperError,
  isFetching: paperLoading,
} = useQuery({
  queryKey: ['paper', () => props.id, seq],
  enabled: computed(() => seq.value > 0),
  queryFn: () =>
    data(api.GET('/api/v1/loads/{id}/orders/{seq}', { params: { path: { id: props.id, seq: seq.value } } })),
})

const sheet = ref('') // blank: the first in which orders were found
const fetchRows = (from: number, limit: number) =>
  data(
    api.GET('/api/v1/loads/{id}/rows', {
      params: { path: { id: props.id }, query: { from, limit, sheet: sheet.value || undefined } },
    }),
  )
function onPick(spot: Spot, order: number) {
  picked.value = spot
  if (order) {
    seq.value = order
    if (!stepping) tab.value = 'paper'
  }
}
async function toOrder(order: number) {
  seq.value = order
  tab.value = 'paper'
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
    const l = await data(
      api.POST('/api/v1/loads', {
        body: { ...optionsOf(d), document: d.document, mapping: d.mapping, dry_run: false },
      }),
    )
    await queries.invalidateQueries({ queryKey: ['loads'] })
    await router.push(`/loads/${l.id}`)
  })
/** optionsOf gives what was asked of a load, to ask the same again. */
const optionsOf = (l: Load) => ({
  all_or_none: l.all_or_none,
  again: l.again,
  only_rows: l.only_rows,
  only_orders: l.only_orders,
  only_sheets: l.only_sheets,
  stage: l.stage,
  opening: l.opening,
  defaults: l.defaults,
  stop_after: l.stop_after,
  note: l.note,
  accept: l.accept,
  retry: l.retry,
})
const path = computed(() => ({ params: { path: { id: props.id } } }))
async function after(call: Promise<Load>) {
  const l = await call
  await queries.invalidateQueries({ queryKey: ['loads'] })
  if (l.id === props.id) await refetch()
  else await router.push(`/loads/${l.id}`)
}
const cancel = () => act('cancel', () => after(data(api.POST('/api/v1/loads/{id}/cancel', path.value))))
const pause = () => act('pause', () => data(api.POST('/api/v1/loads/{id}/pause', path.value)))
const resume = () => act('resume', () => after(data(api.POST('/api/v1/loads/{id}/resume', path.value))))
const retry = () => act('retry', () => after(data(api.POST('/api/v1/loads/{id}/retry', path.value))))
const fix = (body: Fix) =>
  act('fix', () =>
    after(data(api.POST('/api/v1/loads/{id}/fix', { ...path.value, body: { ...body, accept: body.accept as never } }))),
  )
const undone = ref<Undone>() // what taking the load back would do, while somebody thinks about it
const undo = (dry: boolean) =>
  act('undo', async () => {
    const u = await data(
      api.POST('/api/v1/loads/{id}/undo', { params: { path: { id: props.id }, query: { dry_run: dry } } }),
    )
    undone.value = dry ? u : undefined
    if (!dry) {
      await queries.invalidateQueries()
      await grid.value?.reload()
    }
  })
const runAgain = () =>
  act('run', async () => {
    await data(api.POST('/api/v1/runs', { body: { again_of: load.value!.run } }))
    await queries.invalidateQueries({ queryKey: ['loads'] })
    await router.push('/loads')
  })
const { data: run } = useQuery({
  queryKey: ['run', () => load.value?.run],
  enabled: computed(() => !!load.value?.run),
  queryFn: () => data(api.GET('/api/v1/runs/{id}', { params: { path: { id: load.value!.run! } } })),
})
const failing = computed(() => (load.value ? load.value.refused + load.value.held + load.value.withheld : 0))
const tabs = computed(() => {
  const l = load.value
  const all: { id: Tab; label: string; there: boolean }[] = [
    { id: 'reasons', label: 'Findings', there: true },
    { id: 'fix', label: 'Fix', there: !!l && failing.value > 0 && !active(l) },
    { id: 'changes', label: 'Changes', there: !!l && l.changed + l.differs > 0 },
    { id: 'paper', label: 'Order paper', there: true },
  ]
  return all.filter((t) => t.there)
})
const asked = computed(() => {
  const l = load.value!
  return [
    l.retry && `only what failed in load ${l.retry}`,
    l.again && `stored orders: ${l.again}`,
    l.only_rows && `rows ${l.only_rows.join(', ')}`,
    l.only_orders && `orders ${l.only_orders.join(', ')}`,
    l.only_sheets && `sheets ${l.only_sheets.join(', ')}`,
    l.stage && `new orders are ${l.stage}`,
    l.opening && 'opening orders',
    l.stop_after && `stop after ${l.stop_after} failed`,
    l.accept?.length && `accepted: ${l.accept.join(', ')}`,
    l.defaults &&
      Object.entries(l.defaults)
        .map(([k, v]) => `${k} is ${v} where blank`)
        .join(', '),
    l.note,
  ].filter(Boolean)
})
const save = (format: string) => act(format, () => download(`/api/v1/loads/${props.id}/report?format=${format}`))

const figures = computed(() => {
  const l = load.value!
  return [
    { n: l.loaded, word: 'loaded', mark: 'loaded' },
    { n: l.changed, word: 'changed', mark: 'changed' },
    { n: l.differs, word: 'would be changed', mark: 'differs' },
    { n: l.ready, word: 'would be loaded', mark: 'ready' },
    { n: l.unchanged, word: 'unchanged', mark: 'unchanged' },
    { n: l.withheld, word: 'withheld', mark: 'withheld' },
    { n: l.held, word: 'held', mark: 'held' },
    { n: l.undone, word: 'taken back', mark: 'taken back' },
    { n: l.refused, word: 'refused', mark: 'refused' },
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
        <span>
          <RouterLink :to="`/documents/${load.document}`">{{ load.document_name }}</RouterLink> <span
            class="soft">through {{ load.mapping }} v{{ load.mapping_version }}</span>
        </span>
        <OutcomeMark :word="loadWord(load)" />
        <span class="grow" />
        <template v-if="active(load) || load.status === 'paused'">
          <Button
            v-if="load.status === 'paused'" size="small" label="Go on" :loading="busy === 'resume'" @click="resume" />
          <Button v-else size="small" outlined label="Pause" :loading="busy === 'pause'" @click="pause" />
          <Button size="small" text label="Cancel it" :loading="busy === 'cancel'" @click="cancel" />
        </template>
        <template v-else-if="!load.taken_away_at">
          <Button
            size="small" text label="Findings as CSV" :disabled="!report?.reasons.length" :loading="busy === 'csv'"
            @click="save('csv')" />
          <Button
            size="small" :outlined="true" label="Marked-up copy" :loading="busy === 'marked'" @click="save('marked')" />
          <Button
            v-if="failing" size="small" outlined label="Only what failed" :loading="busy === 'failed'"
            @click="save('failed')" />
          <Button
            v-if="load.loaded + load.changed" size="small" text severity="secondary" label="Take back …"
            :loading="busy === 'undo'" @click="undo(true)" />
          <Button
            v-if="load.dry_run && load.ready + load.differs > 0" size="small"
            :label="failing ? `Load the ${load.ready + load.differs} good orders` : `Load ${count(load.ready + load.differs, 'order')}`"
            :loading="busy === 'load'" @click="loadForReal" />
          <RouterLink v-else-if="load.loaded" :to="{ path: '/orders', query: { load: load.id } }">The
            orders</RouterLink>
        </template>
      </div>
      <div v-if="load.run || asked.length" class="bar soft small">
        <template v-if="load.run">
          <span>Step {{ load.step }} of run {{ load.run }}:</span>
          <RouterLink v-for="l in run?.loads" :key="l.id" :to="`/loads/${l.id}`"
            :class="{ here: l.id === load.id }">{{ l.step }} <OutcomeMark :word="loadWord(l)" />
          </RouterLink>
          <Button
            v-if="failing && run?.status !== 'running'" size="small" text label="Run the sequence again"
            :loading="busy === 'run'" @click="runAgain" />
        </template>
        <span v-for="a in asked" :key="String(a)">{{ a }}</span>
      </div>
      <div class="bar figures">
        <span>
          <b>{{ load.orders.toLocaleString('en') }}</b> {{ load.orders === 1 ? 'order' : 'orders' }} in
            {{ count(load.rows, 'row') }}</span>
        <span v-for="f in figures" :key="f.word">
          <b>{{ f.n.toLocaleString('en') }}</b> <OutcomeMark :word="f.mark" />
          <span v-if="f.word !== f.mark">&nbsp;({{ f.word }})</span>
        </span>
        <span
          v-if="load.left_out"
          title="The mapping's orders.leave_out left them out; the number of orders does not count them.">
          <b>{{ load.left_out.toLocaleString('en') }}</b> left out</span>
        <span v-if="load.rows_left_out" title="The mapping's document.rows left them out.">
          <b>{{ load.rows_left_out.toLocaleString('en') }}</b> {{ load.rows_left_out === 1 ? 'row' : 'rows' }} left
          out</span>
        <span v-if="load.warnings">
          <b>{{ load.warnings.toLocaleString('en') }}</b> <span
            class="warn">{{ load.warnings === 1 ? 'warning' : 'warnings' }}</span>
        </span>
        <span v-if="report && report.sheets.length > 1" class="bar">
          <Button
            v-for="s in report.sheets" :key="s" size="small" :label="s" :outlined="s !== (sheet || report.sheets[0])"
            @click="sheet = s" />
        </span>
        <span v-if="load.status === 'failed'" class="err">The load stopped before the document's end.</span>
        <span v-if="load.status === 'stopped'" class="warn">{{ load.reason }}. Load the document again when it is fixed:
          orders that were loaded are recognised.</span>
        <span v-if="load.status === 'cancelled'" class="warn">Load the document again: orders that were loaded are
          recognised.</span>
        <span v-if="load.saved_seconds" class="soft">{{ minutes(load.saved_seconds) }} of typing saved</span>
      </div>
      <LoadState v-if="active(load) || load.status === 'paused'" :load="load" />
      <StateNote v-if="failed" :error="failed" class="sheet" @retry="failed = undefined" />
      <StateNote
        v-if="load.taken_away_at" class="sheet"
        :empty="`The findings and rows of this load were kept for a time only; they were taken away on ${when(load.taken_away_at)}. The orders that it loaded are not touched by that.`" />
      <div v-else class="split">
        <SourceGrid
          ref="grid" :key="`${id} ${sheet}`" :fetch-rows="fetchRows" :lit="pointed" :order="seq" @pick="onPick" />
        <div class="side">
          <TabStrip v-model="tab" :tabs="tabs" panel="load-panel" label="What became of the document">
            <template #end>
              <span v-if="tab === 'reasons'" class="soft keys"><kbd>n</kbd> <kbd>p</kbd> next, previous</span>
            </template>
          </TabStrip>
          <div id="load-panel" class="panels" role="tabpanel" :aria-labelledby="`load-panel-${tab}`">
          <div v-show="tab === 'reasons'" class="sheet panel">
            <StateNote
              v-if="!report?.reasons.length"
              :empty="active(load) ? 'Findings appear when the load has ended.' : load.status === 'paused' ? 'Nothing was found so far.' : load.orders ? 'Nothing was found: every order is as it should be.' : 'No findings.'" />
            <ReasonList v-else ref="reasons" :key="id" :load="id" :reasons="report.reasons" @go="go" />
          </div>
          <div v-if="tab === 'fix'" class="sheet panel">
            <FixPanel
              :key="id" :load="id" :failing="failing" :busy="busy === 'fix' || busy === 'retry'" @fix="fix"
              @retry="retry" />
          </div>
          <div v-if="tab === 'changes'" class="sheet panel">
            <ChangeList
              :key="id" :load="id" :dry="!!load.dry_run" @go="grid?.goTo({ row: $event, column: 1 })"
              @order="toOrder" />
          </div>
          <div v-show="tab === 'paper'" class="panel">
            <StateNote
              v-if="!seq || paperError || (!paper && paperLoading)" class="sheet" :error="paperError"
              :loading="seq > 0 && paperLoading" empty="Choose a row at the left to see the order it belongs to." />
            <OrderPaper
              v-else-if="paper" :order="paper.order" :places="paper.places" :findings="paper.findings"
              :mark="paper.outcome.outcome" :lit="picked" @point="pointed = $event" @pick="grid?.goTo($event)">
              <p v-if="paper.outcome.order_id" class="stored">
                <RouterLink :to="`/orders/${paper.outcome.order_id}`">Open the stored order
                  {{ paper.outcome.number }}</RouterLink>
              </p>
            </OrderPaper>
          </div>
          </div>
        </div>
      </div>
    </template>
    <Dialog
      :visible="!!undone" modal header="Take this load back?" :style="{ width: '34rem' }"
      @update:visible="undone = undefined">
      <ul v-if="undone" class="undo">
        <li v-if="undone.removed"><b>{{ count(undone.removed, 'order') }}</b> that it stored will be gone.</li>
        <li v-if="undone.changed"><b>{{ count(undone.changed, 'order') }}</b> that it changed will be as before.</li>
        <li v-if="undone.kept">
          <b>{{ count(undone.kept, 'order') }}</b> will stay, for something has happened to them since:<ul>
            <li v-for="k in undone.why.slice(0, 8)" :key="k.seq">{{ k.number }}: {{ k.why }}</li>
          </ul>
        </li>
        <li v-if="!undone.removed && !undone.changed">There is nothing that can be taken back.</li>
      </ul>
      <div class="bar">
        <span class="grow" />
        <Button size="small" text label="Close" autofocus @click="undone = undefined" />
        <Button
          size="small" severity="danger" label="Take it back" :disabled="!undone?.removed && !undone?.changed"
          :loading="busy === 'undo'" @click="undo(false)" />
      </div>
    </Dialog>
  </div>
</template>

<style scoped>
.small {
  font-size: 13px;
  gap: 14px;
}
.here {
  font-weight: 600;
  text-decoration: none;
  color: inherit;
}
.undo {
  padding-left: 18px;
  margin: 0 0 12px;
}
.figures {
  gap: 18px;
  font-size: 13px;
}
.figures b {
  font: 600 15px var(--serif);
}
.warn {
  color: var(--warning);
}
.err {
  color: var(--error);
}
.side {
  display: flex;
  flex-direction: column;
  min-height: 0;
}
.panel {
  flex: 1;
  overflow: auto;
  min-height: 0;
}
.panels {
  display: flex;
  flex-direction: column;
  flex: 1;
  min-height: 0;
}
.keys {
  font-size: 11.5px;
  white-space: nowrap;
  overflow: hidden;
}
.stored {
  margin: 12px 0 0;
}
</style>
