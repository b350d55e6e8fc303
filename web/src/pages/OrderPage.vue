<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, useTemplateRef } from 'vue'

import { api, data } from '../api/client'
import OutcomeMark from '../components/OutcomeMark.vue'
import OrderPaper from '../components/OrderPaper.vue'
import SourceGrid, { type Spot } from '../components/SourceGrid.vue'
import StateNote from '../components/StateNote.vue'
import { columnName, fieldName, interchangeWord, when } from '../format'

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
const fetchRows = (from: number, limit: number) =>
  data(api.GET('/api/v1/loads/{id}/rows', { params: { path: { id: order.value!.load! }, query: { from, limit, sheet: order.value!.trace.sheet } } }))

// Why a value is what it is: asked when it is clicked.
const asked = ref<{ line: number; field: string }>()
const { data: why, error: whyError } = useQuery({
  queryKey: ['why', () => props.id, asked],
  enabled: computed(() => !!asked.value),
  queryFn: () => data(api.GET('/api/v1/orders/{id}/why', { params: { path: { id: props.id }, query: { field: asked.value!.field, line: asked.value!.line } } })),
})

// What became of the cell that was chosen in the grid.
const became = computed(() => {
  const s = picked.value
  const t = order.value?.trace
  if (!s || !t) return ''
  const name = t.sheet ? `${columnName(s.column)}${s.row}` : `Row ${s.row} column ${s.column}`
  const fields = [
    ...(t.header ?? []).filter((h) => h.row === s.row && h.column === s.column).map((h) => fieldName(h.field)),
    ...Object.entries(t.columns ?? {}).filter(([, c]) => c === s.column && t.rows?.includes(s.row)).map(([f]) => `${fieldName(f)} of line ${t.rows!.indexOf(s.row) + 1}`),
  ]
  return fields.length ? `${name} became ${fields.join(' and ')}.` : `${name} feeds nothing in this order.`
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
        <span v-if="order.load" class="soft" role="status">{{ became || 'Point at a value on the paper: its cell lights up. Choose a cell: see what became of it.' }}</span>
      </div>
      <div class="split" :class="{ alone: !order.load }">
        <SourceGrid v-if="order.load" ref="grid" :key="id" :fetch-rows="fetchRows" :lit="pointed" :order="order.load_seq" :start="order.trace.rows?.[0]" @pick="(s) => (picked = s)" />
        <div class="side">
          <OrderPaper :order="order" :trace="order.trace" :mark="order.status" :lit="picked" @point="pointed = $event" @pick="grid?.goTo($event)" @ask="(line, field) => (asked = { line, field })">
            <section v-if="asked && (why || whyError)" class="events" aria-live="polite">
              <h2>Why {{ fieldName(asked.field) }}{{ asked.line ? ` of line ${asked.line}` : '' }}{{ why?.value ? ` is ${why.value}` : '' }}</h2>
              <p v-if="whyError" class="soft">{{ (whyError as Error).message }}</p>
              <ol v-else-if="why">
                <li v-if="!why.document" class="soft">It came by itself, through the API.</li>
                <li v-else>{{ why.document_name }} <b>{{ why.at || 'nowhere in it: the mapping, or Koinos, gave the value' }}</b></li>
                <li v-for="(s, i) in why.steps" :key="i"><span class="soft">{{ s.what }}</span> “{{ s.text }}”</li>
                <li v-if="why.interchange" class="soft">in <RouterLink :to="`/exchange/${why.interchange}`">interchange {{ why.interchange }}</RouterLink></li>
                <li v-if="why.load" class="soft">by {{ why.mapping }} version {{ why.version }}, <RouterLink :to="`/loads/${why.load}`">load {{ why.load }}</RouterLink>, {{ when(why.loaded_at) }}; {{ why.events.length ? `changed ${why.events.length} times since` : 'nothing has changed it since' }}</li>
              </ol>
            </section>
            <section v-if="exchanged?.items.length" class="events">
              <h2>What went to and fro</h2>
              <ol>
                <li v-for="i in [...exchanged.items].reverse()" :key="i.id"><span class="soft">{{ when(i.at) }}</span> <RouterLink :to="`/exchange/${i.id}`">{{ i.kinds }} {{ i.direction === 'in' ? 'from' : 'to' }} {{ i.partner }}</RouterLink> <OutcomeMark :word="interchangeWord(i)" /></li>
              </ol>
            </section>
            <section class="events">
              <h2>What happened</h2>
              <ol>
                <li v-for="e in order.events" :key="e.revision"><span class="soft">{{ when(e.at) }}</span> {{ e.action }} by {{ e.by }}<template v-if="e.load"> in <RouterLink :to="`/loads/${e.load}`">load {{ e.load }}</RouterLink></template>, revision {{ e.revision }}
                  <ul v-if="e.changes?.length"><li v-for="(c, i) in e.changes.slice(0, 12)" :key="i">{{ c.line ? `line ${c.line} ` : '' }}{{ fieldName(c.field) }} <span class="was">{{ c.was || '(blank)' }}</span> {{ c.is || '(blank)' }} <span class="soft">{{ c.at }}</span></li><li v-if="e.changes.length > 12" class="soft">and {{ e.changes.length - 12 }} more</li></ul>
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
