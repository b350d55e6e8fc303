<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import { computed, ref, watch } from 'vue'

import { api, data, type OrderSummary, type Posted, ProblemError } from '../api/client'
import { useBusy } from '../busy'
import OutcomeMark from '../components/OutcomeMark.vue'
import StateNote from '../components/StateNote.vue'
import { count, money } from '../format'
import { plus } from './decimal'

// What can be done with many orders at once: one call an order, each with its own outcome. It can be stopped; doing it
// again does what is left, because nothing counts twice.
const props = defineProps<{ orders: OrderSummary[]; refresh: () => Promise<unknown> }>()
const emit = defineEmits<{ clear: [] }>()
const { busy, failed, act } = useBusy()

type Act = 'confirm' | 'move' | 'bill' | 'hold' | 'release' | 'cancel'
interface Said {
  what: 'changes' | 'shipments' | 'receipts' | 'invoices' | 'withdrawals'
  header: Record<string, string>
}
interface Done {
  order: OrderSummary
  outcome: string
  text: string
  accept: string[]
}

const some = (kind: string) => props.orders.some((o) => o.kind === kind)
const acts = computed<{ id: Act; label: string; asks?: string; words?: string }[]>(() => [
  { id: 'confirm', label: 'Confirm' },
  { id: 'move', label: `${some('sales') ? (some('purchase') ? 'Ship or receive' : 'Ship') : 'Receive'} what is open` },
  { id: 'bill', label: 'Bill' },
  { id: 'hold', label: 'Hold …', asks: 'Why are they put on hold?', words: 'Hold' },
  { id: 'release', label: 'Release' },
  { id: 'cancel', label: 'Cancel …', asks: 'Why is what is open cancelled?', words: 'Cancel' },
])
const asking = ref<Act>()
const reason = ref('')
const asked = computed(() => acts.value.find((a) => a.id === asking.value))

function said(id: Act, o: OrderSummary): Said {
  const why: Record<string, string> = reason.value.trim() ? { reason: reason.value.trim() } : {}
  const all: Record<Act, Said> = {
    confirm: { what: 'changes', header: { stage: 'confirmed' } },
    move: { what: o.kind === 'sales' ? 'shipments' : 'receipts', header: { quantities: 'open' } },
    bill: { what: 'invoices', header: { quantities: 'open' } },
    hold: { what: 'changes', header: { on_hold: reason.value.trim() } },
    release: { what: 'changes', header: { on_hold: '' } },
    cancel: { what: 'withdrawals', header: why },
  }
  return all[id]
}

const did = ref<{ id: Act; all: Done[]; of: number; stopped: boolean }>()
const at = computed(() => `${did.value?.all.length} of ${did.value?.of}`)
let stop = false
async function one(id: Act, o: OrderSummary, accept: string[]): Promise<Done> {
  const { what, header } = said(id, o)
  const seen = { 'If-Match': `"${o.id}-${o.revision}"` }
  const options = {
    params: { path: { id: o.id }, query: accept.length ? { accept } : {}, header: seen },
    body: { header },
  }
  try {
    const p = await data(
      api.POST(`/api/v1/orders/{id}/${what}`, options as never) as Promise<{
        data?: Posted
        error?: unknown
        response: Response
      }>,
    )
    o.revision = p.revision || o.revision
    return { order: o, outcome: p.outcome, text: (p.findings ?? []).map((f) => f.message).join(' '), accept: [] }
  } catch (e) {
    if (
      !(e instanceof ProblemError) ||
      !['order_held', 'order_refused', 'changed_meanwhile'].includes(e.problem.code ?? '')
    )
      throw e
    const held = e.problem.code === 'order_held'
    const findings = e.problem.findings ?? []
    const text = findings.map((f) => f.message).join(' ') || (e.problem.detail ?? '')
    return {
      order: o,
      outcome: held ? 'held' : 'refused',
      text,
      accept: held ? [...new Set(findings.map((f) => f.code as string))] : [],
    }
  }
}
const run = (id: Act, orders: { order: OrderSummary; accept: string[] }[]) =>
  act(id, async () => {
    stop = false
    did.value = { id, all: [], of: orders.length, stopped: false }
    try {
      for (const { order, accept } of orders) {
        if (stop) break
        did.value.all.push(await one(id, order, accept))
      }
    } finally {
      did.value.stopped = did.value.all.length < orders.length
      asking.value = undefined
      await props.refresh()
    }
  })
function press(id: Act, asks?: string) {
  reason.value = ''
  asking.value = asks && asking.value !== id ? id : undefined
  if (!asks)
    void run(
      id,
      props.orders.map((order) => ({ order, accept: [] })),
    )
}
const tally = computed(() => {
  const n: Record<string, number> = {}
  for (const d of did.value?.all ?? []) n[d.outcome] = (n[d.outcome] ?? 0) + 1
  return Object.entries(n)
})
const problems = computed(() => (did.value?.all ?? []).filter((d) => d.text))
const held = computed(() => (did.value?.all ?? []).filter((d) => d.accept.length))
const totals = computed(() => {
  const of = new Map<string, string>()
  for (const o of props.orders) of.set(o.currency ?? '', plus(of.get(o.currency ?? ''), o.total))
  const digits = (c: string) =>
    Math.max(0, ...props.orders.filter((o) => (o.currency ?? '') === c).map((o) => o.total.split('.')[1]?.length ?? 0))
  return [...of].map(([currency, sum]) => {
    const [whole, part = ''] = sum.split('.')
    const n = digits(currency)
    return `${money(n ? `${whole}.${part.padEnd(n, '0')}` : sum)} ${currency}`
  })
})
watch(
  () => props.orders,
  (now, was) => {
    if (!busy.value && now.length > was.length) did.value = undefined // others are spoken of now
  },
)
</script>

<template>
  <section class="sheet many" aria-label="The chosen orders">
    <div v-if="orders.length" class="bar">
      <b>{{ count(orders.length, 'order') }} chosen</b><span class="total">{{ totals.join(' + ') }}</span>
      <Button size="small" text label="Choose none" :disabled="!!busy" @click="emit('clear')" />
      <span class="grow" />
      <Button
        v-for="a in acts" :key="a.id" size="small" :outlined="asking !== a.id"
        :severity="a.id === 'cancel' ? 'secondary' : undefined" :label="a.label" :disabled="!!busy"
        :aria-expanded="a.asks ? asking === a.id : undefined" @click="press(a.id, a.asks)" />
    </div>
    <form v-if="asked" class="bar" @submit.prevent="run(asked.id, orders.map((order) => ({ order, accept: [] })))">
      <label>{{ asked.asks }} <InputText v-model="reason" size="small" class="why" /></label>
      <Button
        size="small" type="submit" :label="`${asked.words} ${count(orders.length, 'order')}`"
        :disabled="!reason.trim() || !!busy" />
    </form>
    <div v-if="did" class="bar" role="status">
      <template v-if="busy === did.id">
        <progress :value="did.all.length" :max="did.of" /> {{ at }} <Button size="small" outlined label="Stop"
          @click="stop = true" />
      </template>
      <template v-else-if="did.stopped">Stopped after {{ at }}. Do it again for the others; what was done does not count
        twice.</template>
      <span v-for="[outcome, n] in tally" :key="outcome">{{ n }} <OutcomeMark :word="outcome" /></span>
      <span class="grow" />
      <Button
        v-if="held.length && !busy" size="small" outlined :label="`Do it anyway for ${count(held.length, 'order')}`"
        @click="run(did.id, held)" />
    </div>
    <StateNote v-if="failed" :error="failed" @retry="failed = undefined" />
    <ul v-if="problems.length">
      <li v-for="d in problems" :key="d.order.id">
        <RouterLink :to="`/orders/${d.order.id}`">{{ d.order.number }}</RouterLink> <OutcomeMark
          :word="d.outcome" /> <span>{{ d.text }}</span>
      </li>
    </ul>
  </section>
</template>

<style scoped>
.many {
  padding: 8px 12px;
  margin-bottom: 10px;
  display: grid;
  gap: 8px;
}
.total {
  font-variant-numeric: tabular-nums;
  color: var(--ink-soft);
}
.why {
  min-width: 24rem;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
  max-height: 12rem;
  overflow: auto;
  font-size: 13px;
}
li {
  border-top: 1px solid var(--rule-soft);
  padding: 3px 0;
  display: grid;
  grid-template-columns: 8rem 6rem 1fr;
  gap: 10px;
}
progress {
  accent-color: var(--accent);
}
</style>
