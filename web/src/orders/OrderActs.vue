<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import { computed, reactive, ref, watch } from 'vue'

import { api, data, ProblemError, type StoredOrder } from '../api/client'
import { useBusy } from '../busy'
import StateNote from '../components/StateNote.vue'
import { minus } from './decimal'

// What can be said of an order, on its paper: confirm it, change it, say what moved or was billed, cancel it.
const props = defineProps<{ order: StoredOrder }>()
const emit = defineEmits<{ done: [] }>()
const { busy, failed, act } = useBusy()

type Act = 'change' | 'move' | 'bill' | 'cancel'
const open = ref<Act>()
const purchase = computed(() => props.order.kind === 'purchase')
const lines = computed(() =>
  (props.order.lines ?? []).map((l) => {
    const moved = (purchase.value ? l.received : l.shipped) || '0'
    return { ...l, id: String(l.id), name: l.item || l.supplier_item || l.buyer_item || l.description || '', moved, left: minus(l.quantity, l.cancelled, moved), unbilled: minus(moved, l.invoiced) }
  }),
)
const started = computed(() => lines.value.some((l) => l.moved !== '0'))
const anyLeft = computed(() => lines.value.some((l) => l.left !== '0'))
const acts = computed(() => {
  const status = props.order.status
  return [
    { id: 'change' as const, label: 'Change …', there: true },
    { id: 'move' as const, label: purchase.value ? 'Receive …' : 'Ship …', there: anyLeft.value && status !== 'draft' },
    { id: 'bill' as const, label: 'Bill …', there: lines.value.some((l) => l.unbilled !== '0') },
    { id: 'cancel' as const, label: 'Cancel …', there: anyLeft.value },
  ].filter((a) => a.there)
})

// What is filled in: of the header, and of lines by their ids.
const header = reactive<Record<string, string>>({})
const values = reactive<Record<string, Record<string, string>>>({})
watch([open, () => props.order.revision], () => {
  failed.value = undefined
  for (const k of Object.keys(header)) delete header[k]
  for (const k of Object.keys(values)) delete values[k]
  for (const l of lines.value) {
    if (open.value === 'move') values[l.id] = { quantity: l.left === '0' ? '' : l.left }
    else if (open.value === 'bill') values[l.id] = { quantity: l.unbilled === '0' ? '' : l.unbilled }
    else if (open.value === 'change') values[l.id] = { quantity: l.quantity ?? '', unit_price: l.unit_price ?? '', requested_delivery_on: l.requested_delivery_on ?? '' }
    else values[l.id] = { cancel: l.left === '0' ? '' : 'yes' }
  }
  if (open.value === 'change') Object.assign(header, { requested_delivery_on: props.order.requested_delivery_on ?? '', requested_ship_on: props.order.requested_ship_on ?? '' })
})

watch([header, values], () => (failed.value = undefined)) // what was said of it is of other figures

type Notice = { header?: Record<string, string>; lines?: Record<string, string>[] }
type What = 'changes' | 'shipments' | 'receipts' | 'invoices' | 'withdrawals'
const filled = (all: Record<string, string>) => Object.fromEntries(Object.entries(all).filter(([, v]) => v.trim() !== ''))

function notice(): [What, Notice] {
  if (open.value === 'change') {
    const changed: Record<string, string>[] = []
    for (const l of lines.value) {
      const was: Record<string, string> = { quantity: l.quantity ?? '', unit_price: l.unit_price ?? '', requested_delivery_on: l.requested_delivery_on ?? '' }
      const is = Object.fromEntries(Object.entries(values[l.id]!).filter(([k, v]) => v.trim() !== was[k]))
      if (Object.keys(is).length) changed.push({ id: l.id, ...is })
    }
    const was: Record<string, string> = { requested_delivery_on: props.order.requested_delivery_on ?? '', requested_ship_on: props.order.requested_ship_on ?? '' }
    return ['changes', { header: Object.fromEntries(Object.entries(header).filter(([k, v]) => v.trim() !== (was[k] ?? ''))), lines: changed }]
  }
  if (open.value === 'cancel') {
    const some = lines.value.filter((l) => l.left !== '0')
    const chosen = some.filter((l) => values[l.id]!.cancel)
    if (chosen.length === some.length) return ['withdrawals', { header: filled(header) }]
    return ['changes', { header: filled(header), lines: chosen.map((l) => ({ id: l.id, change: 'delete' })) }]
  }
  const moved = lines.value.filter((l) => values[l.id]!.quantity?.trim()).map((l) => ({ id: l.id, ...filled(values[l.id]!) }))
  return [open.value === 'bill' ? 'invoices' : purchase.value ? 'receipts' : 'shipments', { header: filled(header), lines: moved }]
}

const say = (what: What, body: Notice, accept: string[] = []) =>
  act(what, async () => {
    const options = { params: { path: { id: props.order.id! }, query: accept.length ? { accept } : {}, header: { 'If-Match': `"${props.order.id}-${props.order.revision}"` } }, body }
    await data(api.POST(`/api/v1/orders/{id}/${what}`, options as never) as Promise<{ data?: unknown; error?: unknown; response: Response }>)
    open.value = undefined
    emit('done')
  })
const send = (accept: string[] = []) => say(...notice(), accept)
const held = computed(() => (failed.value instanceof ProblemError && failed.value.problem.code === 'order_held' ? [...new Set((failed.value.problem.findings ?? []).map((f) => f.code as string))] : []))
const nothing = computed(() => {
  if (!open.value) return true
  const [what, n] = notice()
  if (what === 'withdrawals') return false
  const said = Object.keys(n.header ?? {}).filter((k) => k !== 'reason').length
  return !n.lines?.length && (open.value !== 'change' || !said)
})
const words = computed(() => ({ change: 'Change it', move: purchase.value ? 'Received' : 'Shipped', bill: 'Billed', cancel: 'Cancel it' })[open.value ?? 'change'])
const fields = computed(
  () =>
    ({
      change: [['requested_ship_on', 'Ship on'], ['requested_delivery_on', 'Deliver on'], ['reason', 'Why']],
      move: purchase.value ? [['receipt', 'Number of the receipt'], ['received_on', 'Day'], ['carrier', 'Carrier']] : [['shipment', 'Number of the shipment'], ['shipped_on', 'Day'], ['carrier', 'Carrier'], ['tracking', "Carrier's number"]],
      bill: [['invoice', 'Number of the invoice'], ['invoiced_on', 'Day']],
      cancel: [['reason', 'Why']],
    })[open.value ?? 'change'],
)
const dated = (name: string) => name.endsWith('_on')
</script>

<template>
  <section class="acts" aria-label="What can be said of the order">
    <div class="bar">
      <Button v-if="!started && (order.status === 'open' || order.status === 'draft')" size="small" label="Confirm" :loading="busy === 'changes' && !open" @click="say('changes', { header: { stage: 'confirmed' } })" />
      <Button v-for="a in acts" :key="a.id" size="small" :outlined="open !== a.id" :severity="a.id === 'cancel' ? 'secondary' : undefined" :label="a.label" :aria-expanded="open === a.id" @click="open = open === a.id ? undefined : a.id" />
    </div>
    <form v-if="open" class="sheet" @submit.prevent="send()">
      <div class="fields">
        <label v-for="[name, label] in fields" :key="name">{{ label }}<InputText v-model="header[name!]" size="small" :placeholder="dated(name!) ? 'yyyy-mm-dd' : undefined" :class="{ wide: name === 'reason' }" /></label>
      </div>
      <table>
        <thead>
          <tr>
            <th>Line</th><th>Item</th>
            <template v-if="open !== 'change'"><th class="n">Ordered</th><th class="n">{{ purchase ? 'Received' : 'Shipped' }}</th><th class="n">{{ open === 'bill' ? 'Not billed' : 'Open' }}</th></template>
            <template v-if="open === 'change'"><th>Quantity</th><th>Price</th><th>Deliver on</th></template>
            <th v-else>{{ open === 'cancel' ? 'Cancel' : 'Quantity' }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="l in lines" :key="l.id">
            <td>{{ l.number }}</td><td>{{ l.name }}</td>
            <template v-if="open !== 'change'"><td class="n">{{ l.quantity }} {{ l.unit }}</td><td class="n">{{ l.moved }}</td><td class="n">{{ open === 'bill' ? l.unbilled : l.left }}</td></template>
            <template v-if="values[l.id]">
              <template v-if="open === 'change'">
                <td><InputText v-model="values[l.id]!.quantity" size="small" inputmode="decimal" :aria-label="`Quantity of line ${l.number}`" /></td>
                <td><InputText v-model="values[l.id]!.unit_price" size="small" inputmode="decimal" :aria-label="`Price of line ${l.number}`" /></td>
                <td><InputText v-model="values[l.id]!.requested_delivery_on" size="small" class="day" placeholder="yyyy-mm-dd" :aria-label="`Day of delivery of line ${l.number}`" /></td>
              </template>
              <td v-else-if="open === 'cancel'"><input v-if="l.left !== '0'" v-model="values[l.id]!.cancel" type="checkbox" true-value="yes" false-value="" :aria-label="`Cancel line ${l.number}`" /></td>
              <td v-else><InputText v-model="values[l.id]!.quantity" size="small" inputmode="decimal" :aria-label="`Quantity of line ${l.number}`" /></td>
            </template>
          </tr>
        </tbody>
      </table>
      <p v-if="open === 'move' || open === 'bill'" class="soft">Blank lines stay as they are. Without a number it gets that of the order with its revision.</p>
      <StateNote v-if="failed && !held.length" :error="failed" @retry="emit('done')" />
      <div v-if="held.length" class="held" role="alert">
        <p v-for="(f, i) in (failed as ProblemError).problem.findings" :key="i">{{ f.message }}</p>
        <p class="soft">Nothing was done.</p>
      </div>
      <div class="bar">
        <Button v-if="held.length" size="small" outlined label="Do it all the same" :loading="!!busy" @click="send(held)" />
        <Button v-else size="small" type="submit" :label="words" :disabled="nothing" :loading="!!busy" />
        <Button size="small" text label="Leave it" @click="open = undefined" />
      </div>
    </form>
    <StateNote v-else-if="failed" :error="failed" @retry="emit('done')" />
  </section>
</template>

<style scoped>
.acts { margin-bottom: 10px; }
form { padding: 12px 16px; margin-top: 8px; }
form > .bar { margin-top: 8px; }
.fields { display: flex; flex-wrap: wrap; gap: 6px 14px; margin-bottom: 8px; }
label { display: grid; gap: 2px; font-size: 12px; color: var(--ink-soft); }
.wide { min-width: 22rem; }
table { width: 100%; border-collapse: collapse; font-size: 13px; }
th { text-align: left; font-weight: 600; color: var(--ink-soft); font-size: 12px; padding: 2px 6px; }
td { border-top: 1px solid var(--rule-soft); padding: 2px 6px; }
.n { text-align: right; font-variant-numeric: tabular-nums; }
td :deep(.p-inputtext) { width: 5.5rem; text-align: right; }
td :deep(.p-inputtext.day) { width: 8rem; text-align: left; }
.held { border-left: 3px solid var(--warning); background: var(--warning-wash); padding: 6px 12px; margin: 8px 0; }
.held p { margin: 2px 0; }
</style>
