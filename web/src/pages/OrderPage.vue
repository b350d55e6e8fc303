<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref, useTemplateRef } from 'vue'

import { api, data, type RowsOutcome } from '../api/client'
import OrderPaper from '../components/OrderPaper.vue'
import SourceGrid from '../components/SourceGrid.vue'
import StateNote from '../components/StateNote.vue'
import { fieldLabel, fieldName, when } from '../format'
import { Places, type Spot } from '../places'
import OrderActs from '../orders/OrderActs.vue'
import OrderStory from '../orders/OrderStory.vue'
import OrderSystems from '../systems/OrderSystems.vue'
import WhenMark from '../components/WhenMark.vue'

const props = defineProps<{ id: number }>()
const {
  data: order,
  error,
  isPending,
  refetch,
} = useQuery({
  queryKey: ['order', () => props.id],
  queryFn: () => data(api.GET('/api/v1/orders/{id}', { params: { path: { id: props.id } } })),
})
const { data: exchanged } = useQuery({
  queryKey: ['interchanges', 'order', () => props.id],
  queryFn: () => data(api.GET('/api/v1/interchanges', { params: { query: { order: props.id, limit: 100 } } })),
})
const acts = useTemplateRef<InstanceType<typeof OrderActs>>('acts')
const grid = useTemplateRef<InstanceType<typeof SourceGrid>>('grid')
const pointed = ref<Spot>()
const picked = ref<Spot>()
const places = computed(() => new Places(order.value?.places))
async function fetchRows(from: number, limit: number): Promise<RowsOutcome> {
  const o = order.value!
  const query = { from, limit, sheet: places.value.sheet || undefined }
  if (o.load) return data(api.GET('/api/v1/loads/{id}/rows', { params: { path: { id: o.load }, query } }))
  const rows = await data(
    api.GET('/api/v1/documents/{document}/rows', { params: { path: { document: o.document! }, query } }),
  )
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
      if (line !== undefined)
        said.set(
          `${line} ${c.field}`,
          `${e.action} ${when(e.origin.at)}${c.at ? `: ${c.at}` : ''}${e.origin.document_name ? ` of ${e.origin.document_name}` : ''}`,
        )
    }
  }
  return said
})

// Why a value is what it is: asked when it is clicked.
const asked = ref<{ line: number; field: string }>()
const { data: why, error: whyError } = useQuery({
  queryKey: ['why', () => props.id, asked],
  enabled: computed(() => !!asked.value),
  queryFn: () =>
    data(
      api.GET('/api/v1/orders/{id}/why', {
        params: { path: { id: props.id }, query: { field: asked.value!.field, line: asked.value!.line } },
      }),
    ),
})

// What became of the cell that was chosen in the grid.
const became = computed(() => {
  const s = picked.value
  if (!s) return ''
  const here = places.value.at(s)
  if (!here.length) return 'This cell is not used in this order.'
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
        <span v-else class="soft">from <RouterLink
          :to="`/documents/${order.document}`">{{ order.document_name }}</RouterLink> in <RouterLink
          :to="`/loads/${order.load}`">load {{ order.load }}</RouterLink> through {{ order.mapping }}
          v{{ order.mapping_version }}</span>
        <span class="grow" />
        <span v-if="order.document" class="soft"
          role="status">{{ became || 'Point at a value on the paper: its cell lights up. Choose a cell: see what became of it.' }}</span>
      </div>
      <div class="split" :class="{ alone: !order.document }">
        <SourceGrid
          v-if="order.document" ref="grid" :key="id" :fetch-rows="fetchRows" :lit="pointed" :order="order.load_seq"
          :start="places.first" @pick="(s) => (picked = s)" />
        <div class="side">
          <OrderActs ref="acts" :key="order.id" :order="order" :refresh="refetch" />
          <OrderPaper
            :order="order" :places="order.places" :notes="notes" :mark="order.status" :lit="picked"
            @point="pointed = $event" @pick="grid?.goTo($event)" @ask="(line, field) => (asked = { line, field })">
            <section v-if="asked && (why || whyError)" class="events" aria-live="polite">
              <h2>Why
                {{ fieldLabel(asked.field) }}{{ asked.line ? ` of line ${asked.line}` : '' }}{{ why?.value ? ` is ${why.value}` : '' }}</h2>
              <p v-if="whyError" class="soft">{{ (whyError as Error).message }}</p>
              <ol v-else-if="why">
                <template v-if="why.terms">
                  <li class="soft">Koinos computed it from:</li>
                  <li v-for="(t, i) in why.terms" :key="i">
                    <span class="soft">{{ t.what }}</span> {{ t.sign }} {{ t.text }}</li>
                </template>
                <template v-else>
                  <li v-if="!why.origin.document" class="soft">No document says it.</li>
                  <li
                    v-else>{{ why.origin.document_name }} <b>{{ why.at || 'nowhere in it: the mapping, or Koinos, gave the value' }}</b>
                  </li>
                  <li v-for="(s, i) in why.steps" :key="i"><span class="soft">{{ s.what }}</span> “{{ s.text }}”</li>
                  <li v-if="why.gone">{{ why.gone }}</li>
                </template>
                <li v-if="why.origin.interchange" class="soft">in <RouterLink
                  :to="`/exchange/${why.origin.interchange}`">interchange {{ why.origin.interchange }}</RouterLink>
                </li>
                <li class="soft">
                  <template v-if="why.origin.load">by {{ why.origin.mapping }} version {{ why.origin.mapping_version }},
                    <RouterLink :to="`/loads/${why.origin.load}`">load {{ why.origin.load }}</RouterLink>, </template>
                  <WhenMark :at="why.origin.at" /> by {{ why.origin.by }}<template v-if="!why.terms">;
                    {{ why.events.length ? `changed ${why.events.length} times since it was stored` : 'nothing has changed it since' }}</template>
                </li>
              </ol>
            </section>
            <OrderSystems :order="order" />
            <OrderStory :order="order" :interchanges="exchanged?.items ?? []" @back="acts?.back($event)" />
          </OrderPaper>
        </div>
      </div>
    </template>
  </div>
</template>

<style scoped>
.side {
  overflow: auto;
}
.events {
  margin-top: 16px;
  border-top: 1px solid var(--rule);
  padding-top: 10px;
}
.alone {
  grid-template-columns: minmax(0, 60rem);
  justify-content: center;
}
ol {
  margin: 6px 0 0;
  padding: 0;
  list-style: none;
}
</style>
