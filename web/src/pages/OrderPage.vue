<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, useTemplateRef } from 'vue'

import { api, data, type RowsOutcome } from '../api/client'
import OutcomeMark from '../components/OutcomeMark.vue'
import OrderPaper from '../components/OrderPaper.vue'
import SourceGrid from '../components/SourceGrid.vue'
import StateNote from '../components/StateNote.vue'
import { fieldName, interchangeWord, when } from '../format'
import { Places, type Spot } from '../places'
import OrderActs from '../orders/OrderActs.vue'
import OrderSystems from '../systems/OrderSystems.vue'

const props = defineProps<{ id: number }>()
const { data: order, error, isPending, refetch } = useQuery({
  queryKey: ['order', () => props.id],
  queryFn: () => data(api.GET('/api/v1/orders/{id}', { params: { path: { id: props.id } } })),
})
const { data: exchanged } = useQuery({
  queryKey: ['interchanges', 'order', () => props.id],
  queryFn: () => data(api.GET('/api/v1/interchanges', { params: { query: { order: props.id, limit: 100 } } })),
})
const grid = useTemplateRef<InstanceType<typeof SourceGrid>>('grid')
const pointed = ref<Spot>()
const picked = ref<Spot>()
const places = computed(() => new Places(order.value?.places))
async function fetchRows(from: number, limit: number): Promise<RowsOutcome> {
  const o = order.value!
  const query = { from, limit, sheet: places.value.sheet || undefined }
  if (o.load) return data(api.GET('/api/v1/loads/{id}/rows', { params: { path: { id: o.load }, query } }))
  const rows = await data(api.GET('/api/v1/documents/{document}/rows', { params: { path: { document: o.document! }, query } }))
  return { ...rows, spans: [], findings: [] }
}

// What was changed since the document on the left came, and where that stands.
const notes = computed(() => {
  const position = new Map((order.value?.lines ?? []).map((l, i) => [l.id ?? 0, i + 1]))
  const said = new Map<string, string>()
  for (const e of order.value?.events ?? []) {
    if (e.action === 'created' || e.action === 'revised') said.clear()
    for (const c of e.changes ?? []) {
      const line = c.line_id ? position.get(c.line_id) : 0
      if (line !== undefined) said.set(`${line} ${c.field}`, `${e.action} ${when(e.origin.at)}${c.at ? `: ${c.at}` : ''}${e.origin.document_name ? ` of ${e.origin.document_name}` : ''}`)
    }
  }
  return said
})

// Why a value is what it is: asked when it is clicked.
const asked = ref<{ line: number; field: string }>()
const { data: why, error: whyError } = useQuery({
  queryKey: ['why', () => props.id, asked],
  enabled: computed(() => !!asked.value),
  queryFn: () => data(api.GET('/api/v1/orders/{id}/why', { params: { path: { id: props.id }, query: { field: asked.value!.field, line: asked.value!.line } } })),
})

const numberOf = (id: number) => order.value?.lines?.find((l) => l.id === id)?.number ?? id

// What became of the cell that was chosen in the grid.
const became = computed(() => {
  const s = picked.value
  if (!s) return ''
  const here = places.value.at(s)
  if (!here.length) return 'This cell feeds nothing in this order.'
  return `${here[0]!.at} became ${here.map((l) => (l.line ? `${fieldName(l.field!)} of line ${l.line}` : fieldName(l.field!))).join(' and ')}.`
})
</script>

<template>
  <div class="page full">
    <StateNote v-if="error || isPending" :error="error" :loading="isPending" @retry="refetch()" />
    <template v-else-if="order">
      <div class="bar">
        <h1>{{ order.number }}</h1>
        <span v-if="!order.load" class="soft">came by itself, through the API</span>
        <span v-else class="soft">from <RouterLink :to="`/documents/${order.document}`">{{ order.document_name }}</RouterLink> in <RouterLink :to="`/loads/${order.load}`">load {{ order.load }}</RouterLink> through {{ order.mapping }} v{{ order.mapping_version }}</span>
        <span class="grow" />
        <span v-if="order.document" class="soft" role="status">{{ became || 'Point at a value on the paper: its cell lights up. Choose a cell: see what became of it.' }}</span>
      </div>
      <div class="split" :class="{ alone: !order.document }">
        <SourceGrid v-if="order.document" ref="grid" :key="id" :fetch-rows="fetchRows" :lit="pointed" :order="order.load_seq" :start="places.first" @pick="(s) => (picked = s)" />
        <div class="side">
          <OrderActs :order="order" @done="refetch()" />
          <OrderPaper :order="order" :places="order.places" :notes="notes" :mark="order.status" :lit="picked" @point="pointed = $event" @pick="grid?.goTo($event)" @ask="(line, field) => (asked = { line, field })">
            <section v-if="asked && (why || whyError)" class="events" aria-live="polite">
              <h2>Why {{ fieldName(asked.field) }}{{ asked.line ? ` of line ${asked.line}` : '' }}{{ why?.value ? ` is ${why.value}` : '' }}</h2>
              <p v-if="whyError" class="soft">{{ (whyError as Error).message }}</p>
              <ol v-else-if="why">
                <template v-if="why.terms">
                  <li class="soft">Koinos computed it from:</li>
                  <li v-for="(t, i) in why.terms" :key="i"><span class="soft">{{ t.what }}</span> {{ t.sign }} {{ t.text }}</li>
                </template>
                <template v-else>
                  <li v-if="!why.origin.document" class="soft">No document says it.</li>
                  <li v-else>{{ why.origin.document_name }} <b>{{ why.at || 'nowhere in it: the mapping, or Koinos, gave the value' }}</b></li>
                  <li v-for="(s, i) in why.steps" :key="i"><span class="soft">{{ s.what }}</span> “{{ s.text }}”</li>
                  <li v-if="why.gone">{{ why.gone }}</li>
                </template>
                <li v-if="why.origin.interchange" class="soft">in <RouterLink :to="`/exchange/${why.origin.interchange}`">interchange {{ why.origin.interchange }}</RouterLink></li>
                <li class="soft"><template v-if="why.origin.load">by {{ why.origin.mapping }} version {{ why.origin.mapping_version }}, <RouterLink :to="`/loads/${why.origin.load}`">load {{ why.origin.load }}</RouterLink>, </template>{{ when(why.origin.at) }} by {{ why.origin.by }}<template v-if="!why.terms">; {{ why.events.length ? `changed ${why.events.length} times since it was stored` : 'nothing has changed it since' }}</template></li>
              </ol>
            </section>
            <section v-if="exchanged?.items.length" class="events">
              <h2>What went to and fro</h2>
              <ol>
                <li v-for="i in [...exchanged.items].reverse()" :key="i.id"><span class="soft">{{ when(i.at) }}</span> <RouterLink :to="`/exchange/${i.id}`">{{ i.kinds }} {{ i.direction === 'in' ? 'from' : 'to' }} {{ i.partner }}</RouterLink> <OutcomeMark :word="interchangeWord(i)" /></li>
              </ol>
            </section>
            <OrderSystems :order="order" />
            <section v-if="order.movements?.length || order.answers?.length || order.invoices?.length" class="events">
              <h2>Shipped, answered, invoiced</h2>
              <ol>
                <li v-for="m in order.movements" :key="`m${m.id}`">{{ m.kind }} <b>{{ m.number }}</b>{{ m.reverses ? ` takes back ${m.reverses}:` : '' }} <span class="soft">{{ m.on }}</span> <template v-for="(l, i) in m.lines" :key="i">{{ i ? ', ' : '' }}{{ l.quantity }} of line {{ numberOf(l.line) }}</template></li>
                <li v-for="a in order.answers" :key="`a${a.order_revision}`">answer <b>{{ a.code }}</b> <span class="soft">{{ a.on }}</span> <template v-for="(l, i) in a.lines" :key="i">{{ i ? ', ' : '' }}line {{ numberOf(l.line) }} {{ l.code }} {{ l.quantity }}{{ l.due_on ? ` for ${l.due_on}` : '' }}</template></li>
                <li v-for="v in order.invoices" :key="`v${v.id}`">invoice <b>{{ v.number }}</b> <span class="soft">{{ v.on }}</span> <template v-for="(l, i) in v.lines" :key="i">{{ i ? ', ' : '' }}{{ l.quantity }} of line {{ numberOf(l.line) }}</template>{{ v.total ? `, ${v.total} ${v.currency ?? ''}` : '' }}</li>
              </ol>
            </section>
            <section class="events">
              <h2>What happened</h2>
              <ol>
                <li v-for="e in order.events" :key="e.revision"><span class="soft">{{ when(e.origin.at) }}</span> {{ e.action }} by {{ e.origin.by }}<template v-if="e.origin.interchange"> in <RouterLink :to="`/exchange/${e.origin.interchange}`">interchange {{ e.origin.interchange }}</RouterLink></template><template v-else-if="e.origin.load"> in <RouterLink :to="`/loads/${e.origin.load}`">load {{ e.origin.load }}</RouterLink></template>, revision {{ e.revision }}
                  <ul v-if="e.changes?.length"><li v-for="(c, i) in e.changes.slice(0, 12)" :key="i">{{ c.line ? `line ${c.line} ` : '' }}{{ fieldName(c.field) }} <span v-if="c.field !== 'reason'" class="was">{{ c.was || '(blank)' }}</span> {{ c.is || '(blank)' }} <span class="soft">{{ c.at }}</span></li><li v-if="e.changes.length > 12" class="soft">and {{ e.changes.length - 12 }} more</li></ul>
                </li>
              </ol>
            </section>
          </OrderPaper>
        </div>
      </div>
    </template>
  </div>
</template>

<style scoped>
.side { overflow: auto; }
.events { margin-top: 16px; border-top: 1px solid var(--rule); padding-top: 10px; }
.alone { grid-template-columns: minmax(0, 60rem); justify-content: center; }
ul { margin: 0 0 4px 18px; padding: 0; list-style: none; font-size: 13px; }
.was { color: var(--ink-soft); text-decoration: line-through; }
ol { margin: 6px 0 0; padding: 0; list-style: none; }
</style>
