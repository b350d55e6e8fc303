<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import { computed, nextTick, reactive, ref, useTemplateRef, watch } from 'vue'

import { api, data, type Invoice, type Movement, ProblemError, type StoredOrder } from '../api/client'
import { useBusy } from '../busy'
import StateNote from '../components/StateNote.vue'
import { answered, type Statement } from './answer'
import AnswerLines from './AnswerLines.vue'
import LineTurner from '../components/LineTurner.vue'
import { useLines } from '../lines'
import { inUnit, minus, plus } from './decimal'

// What can be said of an order, on its paper: confirm it, answer it line by line, change it, put it on hold, say what moved or was billed, take
// some of that back, cancel it.
const props = defineProps<{ order: StoredOrder; refresh: () => Promise<unknown> }>()
const { busy, failed, act } = useBusy()

type Act = 'answer' | 'change' | 'move' | 'return' | 'bill' | 'back' | 'hold' | 'cancel'
type What = 'answers' | 'changes' | 'shipments' | 'receipts' | 'returns' | 'invoices' | 'withdrawals'
type Notice = { header?: Record<string, string>; lines?: Record<string, string>[] }

const root = useTemplateRef('root')
const open = ref<Act>()
const taken = ref<Movement | Invoice>() // what is taken back
const purchase = computed(() => props.order.kind === 'purchase')
// left is what of each line can be taken back still of what is taken back.
const left = computed(() => {
  const all = new Map<number, string>()
  const of = taken.value
  if (!of) return all
  const like =
    'kind' in of ? (props.order.movements ?? []).filter((m) => m.kind === of.kind) : (props.order.invoices ?? [])
  for (const m of like) {
    if (!(m.number === of.number && !m.reverses) && m.reverses !== of.number) continue
    for (const l of m.lines ?? []) all.set(l.line, plus(all.get(l.line) ?? '0', l.quantity))
  }
  return all
})
const lines = computed(() =>
  (props.order.lines ?? []).map((l, i) => {
    const moved = (purchase.value ? l.received : l.shipped) || '0'
    return {
      ...l,
      id: String(l.id),
      at: i + 1,
      name: l.item || l.supplier_item || l.buyer_item || l.description || '',
      moved,
      left: minus(l.quantity, l.cancelled, moved),
      unbilled: minus(moved, l.returned, l.invoiced),
      returnable: minus(moved, l.returned),
      ofTaken: left.value.get(l.id ?? 0) ?? '0',
    }
  }),
)
const started = computed(() => lines.value.some((l) => l.moved !== '0' || (l.invoiced && l.invoiced !== '0')))
const anyLeft = computed(() => lines.value.some((l) => l.left !== '0'))

const { first, shown } = useLines(() => lines.value)

interface Form {
  label: string // of the button that opens it
  there: boolean
  what: What
  words: string // of the button that does it
  column: string // what may be done of each line
  may: 'left' | 'unbilled' | 'returnable' | 'ofTaken'
  fields: [name: string, label: string, hint?: string][]
}
const ofGoods: Form['fields'] = [
  ['carrier', 'Carrier'],
  ['tracking', "Carrier's number"],
  ['bill_of_lading', 'Bill of lading'],
]
const mostOffers = 20 // are listed; all are taken together
const offers = computed(() => (props.order.offers ?? []).filter((f) => f.differs?.length))
const takes = computed(() => offers.value.flatMap((f) => (f.take ? [f.take] : [])))
const forms = computed<Record<Act, Form>>(() => {
  const status = props.order.status
  const moves: [What, Form['fields']] = purchase.value
    ? [
        'receipts',
        [
          ['receipt', 'Number of the receipt'],
          ['received_on', 'Day'],
        ],
      ]
    : [
        'shipments',
        [
          ['shipment', 'Number of the shipment'],
          ['shipped_on', 'Day'],
        ],
      ]
  const of = taken.value
  const kind = of && 'kind' in of ? of.kind : 'invoice'
  return {
    answer: {
      label: purchase.value ? 'Their answer …' : 'Answer …',
      there: anyLeft.value && status !== 'draft',
      what: 'answers',
      words: 'Record the answer',
      column: '',
      may: 'left',
      fields: [['answered_on', 'Day']],
    },
    change: {
      label: 'Change …',
      there: true,
      what: 'changes',
      words: 'Change it',
      column: '',
      may: 'left',
      fields: [
        ['requested_ship_on', 'Ship on'],
        ['requested_delivery_on', 'Deliver on'],
        ['reason', 'Why'],
      ],
    },
    move: {
      label: purchase.value ? 'Receive …' : 'Ship …',
      there: anyLeft.value && status !== 'draft',
      what: moves[0],
      words: purchase.value ? 'Record the receipt' : 'Record the shipment',
      column: 'Open',
      may: 'left',
      fields: [...moves[1], ...ofGoods],
    },
    return: {
      label: 'Return …',
      there: lines.value.some((l) => l.returnable !== '0'),
      what: 'returns',
      words: 'Record the return',
      column: 'Can come back',
      may: 'returnable',
      fields: [
        ['return', 'Number of the return'],
        ['returned_on', 'Day'],
        ['reason', 'Why'],
      ],
    },
    bill: {
      label: 'Bill …',
      there: lines.value.some((l) => l.unbilled !== '0'),
      what: 'invoices',
      words: 'Create the invoice',
      column: 'Not billed',
      may: 'unbilled',
      fields: [
        ['invoice', 'Number of the invoice', purchase.value ? '' : 'the next of the series'],
        ['invoiced_on', 'Day'],
      ],
    },
    back: {
      label: '',
      there: false,
      what: kind === 'invoice' ? 'invoices' : (`${kind}s` as What),
      words: kind === 'invoice' ? 'Give it back' : 'Take it back',
      column: 'Can be taken back',
      may: 'ofTaken',
      fields: [
        [
          kind,
          kind === 'invoice' ? 'Number of the credit note' : 'Number of the counter-entry',
          kind === 'invoice' && !purchase.value ? 'the next of the series' : '',
        ],
        ...(kind === 'invoice' || kind === 'return' ? ([['reason', 'Why']] as Form['fields']) : []),
      ],
    },
    hold: {
      label: 'Hold …',
      there: !props.order.on_hold && status !== 'cancelled',
      what: 'changes',
      words: 'Put it on hold',
      column: '',
      may: 'left',
      fields: [['on_hold', 'Why']],
    },
    cancel: {
      label: 'Cancel …',
      there: anyLeft.value,
      what: 'withdrawals',
      words: 'Cancel it',
      column: 'Open',
      may: 'left',
      fields: [['reason', 'Why']],
    },
  }
})
const form = computed(() => forms.value[open.value ?? 'change'])
const acts = computed(() => (Object.keys(forms.value) as Act[]).filter((id) => forms.value[id].there))
const charged = computed(
  () =>
    open.value === 'bill' &&
    !purchase.value &&
    (!!props.order.charges?.length || lines.value.some((l) => l.charges?.length)),
)
const rules = [
  { value: 'first', label: 'with the first invoice' },
  { value: 'share', label: 'by share of the goods' },
  { value: 'last', label: 'with the last invoice' },
  { value: 'none', label: 'not on this one' },
]

// What is filled in: of the header, and of lines by their ids.
const header = reactive<Record<string, string>>({})
const values = reactive<Record<string, Record<string, string>>>({})
const statements = ref<Statement[]>([]) // of an answer
const changeable = ['quantity', 'unit_price', 'requested_delivery_on'] as const
const days = ['requested_delivery_on', 'requested_ship_on'] as const
interface Filled {
  header: Record<string, string>
  values: Record<string, Record<string, string>>
  statements: Statement[]
}
// proposed is what a form that is opened says before anybody has typed.
function proposed(): Filled {
  const change = open.value === 'change'
  return {
    header: change ? Object.fromEntries(days.map((k) => [k, props.order[k] ?? ''])) : {},
    values: Object.fromEntries(
      lines.value.map((l) => {
        const may = l[form.value.may]
        if (change) return [l.id, Object.fromEntries(changeable.map((k) => [k, l[k] ?? '']))]
        if (open.value === 'cancel') return [l.id, { cancel: may === '0' ? '' : 'yes' }]
        return [l.id, { quantity: may === '0' || open.value === 'return' ? '' : may }]
      }),
    ),
    statements: lines.value
      .filter((l) => l.left !== '0')
      .map((l) => ({ id: l.id, answer: '', accepted: '', due_on: '', reason: '' })),
  }
}
let base: Filled = proposed()
const meanwhile = ref(0) // the revision that was made while a form was open
watch([open, taken], () => {
  failed.value = undefined
  meanwhile.value = 0
  base = proposed()
  for (const all of [header, values]) for (const k of Object.keys(all)) delete all[k]
  Object.assign(header, base.header)
  Object.assign(values, structuredClone(base.values))
  statements.value = structuredClone(base.statements)
})
// What somebody typed stays as it is when the order changes meanwhile; what nobody touched follows the order.
watch(
  () => props.order.revision,
  (revision) => {
    if (!open.value) return
    const was = base
    base = proposed()
    const follow = (is: Record<string, string>, old: Record<string, string> = {}, now: Record<string, string> = {}) => {
      for (const k of Object.keys(now)) if ((is[k] ?? '') === (old[k] ?? '')) is[k] = now[k]!
    }
    follow(header, was.header, base.header)
    for (const [id, now] of Object.entries(base.values)) follow((values[id] ??= {}), was.values[id], now)
    const said = statements.value.filter((s) => s.answer)
    statements.value = [...said, ...structuredClone(base.statements.filter((s) => !said.some((of) => of.id === s.id)))]
    meanwhile.value = revision ?? 0
  },
)
watch([header, values, statements], () => (failed.value = undefined), { deep: true }) // what was said of it is of other figures

const filled = (all: Record<string, string>) =>
  Object.fromEntries(Object.entries(all).filter(([, v]) => v.trim() !== ''))
// other gives what is not as it was.
const other = (is: Record<string, string>, was: Record<string, unknown>) =>
  Object.fromEntries(Object.entries(is).filter(([k, v]) => v.trim() !== (was[k] ?? '')))
function notice(): [What, Notice] {
  const f = form.value
  switch (open.value) {
    case 'answer':
      return [f.what, { header: filled(header), lines: answered(statements.value) }]
    case 'change':
      return [
        f.what,
        {
          header: other(header, { ...props.order, reason: '' }),
          lines: lines.value
            .map((l) => ({ id: l.id, ...other(values[l.id] ?? {}, { ...l, price_for: '' }) }))
            .filter((l) => Object.keys(l).length > 1),
        },
      ]
    case 'hold':
      return [f.what, { header: filled(header) }]
    case 'cancel': {
      const some = lines.value.filter((l) => l.left !== '0')
      const chosen = some.filter((l) => values[l.id]!.cancel)
      if (chosen.length === some.length) return [f.what, { header: filled(header) }]
      return ['changes', { header: filled(header), lines: chosen.map((l) => ({ id: l.id, change: 'delete' })) }]
    }
  }
  const said = filled(header)
  if (open.value === 'back') said.reverses = taken.value!.number
  return [
    f.what,
    {
      header: said,
      lines: lines.value
        .filter((l) => values[l.id]?.quantity?.trim())
        .map((l) => ({ id: l.id, ...inUnit(values[l.id]!.quantity!) })),
    },
  ]
}

const say = (what: What, body: Notice, accept: string[] = [], said?: () => void) =>
  act(what, async () => {
    const options = {
      params: {
        path: { id: props.order.id! },
        query: accept.length ? { accept } : {},
        header: { 'If-Match': `"${props.order.id}-${props.order.revision}"` },
      },
      body,
    }
    await data(
      api.POST(`/api/v1/orders/{id}/${what}`, options as never) as Promise<{
        data?: unknown
        error?: unknown
        response: Response
      }>,
    )
    said?.()
    await props.refresh()
  })
// What one click changed, one click takes back.
const did = ref<{ words: string; back: Record<string, string>; revision?: number }>()
const set = (words: string, header: Record<string, string>, back: Record<string, string>) =>
  say('changes', { header }, [], () => (did.value = { words, back }))
const release = () => set('Released.', { on_hold: '' }, { on_hold: props.order.on_hold ?? '' })
const confirmed = () => set('Confirmed.', { stage: 'confirmed' }, { stage: props.order.status ?? 'open' })
const takeBack = (back: Record<string, string>) => say('changes', { header: back }, [], () => (did.value = undefined))
watch(
  () => props.order.revision,
  (is) => {
    if (!did.value) return
    if (did.value.revision)
      did.value = undefined // something else has happened since
    else did.value.revision = is
  },
)
const close = () => (open.value = taken.value = undefined)
// What was sent closes its own form: by then, another one may be open.
const send = (accept: string[] = []) => {
  const [form, of] = [open.value, taken.value]
  return say(...notice(), accept, () => open.value === form && taken.value === of && close())
}
const held = computed(() =>
  failed.value instanceof ProblemError && failed.value.problem.code === 'order_held'
    ? [...new Set((failed.value.problem.findings ?? []).map((f) => f.code as string))]
    : [],
)
const nothing = computed(() => {
  if (!open.value) return true
  const [what, n] = notice()
  if (what === 'withdrawals') return false
  const said = Object.keys(n.header ?? {}).filter((k) => k !== 'reason').length
  return !n.lines?.length && (what !== 'changes' || !said)
})
const toggle = (id: Act) => {
  taken.value = undefined
  open.value = open.value === id ? undefined : id
}
defineExpose({
  back(of: Movement | Invoice) {
    taken.value = of
    open.value = 'back'
    void nextTick(() => root.value?.scrollIntoView({ block: 'start' }))
  },
})
const dated = (name: string) => name.endsWith('_on') && name !== 'on_hold'
const counted = computed(() => open.value !== 'change' && open.value !== 'hold' && open.value !== 'answer')
</script>

<template>
  <section ref="root" class="acts" aria-label="Actions on the order">
    <div v-if="offers.length" class="held" role="status">
      <p><b>The supplier's answer is not what was ordered.</b></p>
      <p v-for="f in offers.slice(0, mostOffers)" :key="f.line">
        Line {{ f.number }}: {{ f.differs!.join(', ') }}<span v-if="f.reason" class="soft"> ({{ f.reason }})</span>
        <Button
          v-if="f.take && offers.length > 1" size="small" text :label="f.refused ? 'Cancel the line' : 'Take it'"
          :aria-label="`Take what is offered of line ${f.number}`" :loading="!!busy"
          @click="say('changes', { lines: [f.take] })" />
      </p>
      <p v-if="offers.length > mostOffers" class="soft">and {{ offers.length - mostOffers }} further lines</p>
      <Button
        v-if="takes.length" size="small" outlined label="Take what is offered" :loading="!!busy"
        @click="say('changes', { lines: takes })" />
    </div>
    <p v-if="order.on_hold" class="held" role="status"><b>On hold:</b> {{ order.on_hold }}</p>
    <div class="bar">
      <Button
        v-if="order.on_hold" size="small" label="Release" :disabled="!!busy" :loading="busy === 'changes' && !open"
        @click="release" />
      <Button
        v-if="!started && (order.status === 'open' || order.status === 'draft')" size="small" label="Confirm"
        :disabled="!!busy" :loading="busy === 'changes' && !open" @click="confirmed" />
      <Button
        v-for="id in acts" :key="id" size="small" :outlined="open !== id"
        :severity="id === 'cancel' ? 'secondary' : undefined" :label="forms[id].label" :disabled="!!busy"
        :aria-expanded="open === id" @click="toggle(id)" />
    </div>
    <p v-if="did" class="soft did" role="status">{{ did.words }} <Button size="small" text label="Undo"
      :disabled="!!busy" @click="takeBack(did.back)" />
    </p>
    <form v-if="open" class="sheet" @submit.prevent="send()">
      <p v-if="meanwhile" class="held" role="status">The order has changed since this form was opened: it is at revision
        {{ meanwhile }} now. What you typed is as you left it; the other figures are the new ones.</p>
      <p v-if="open === 'back'">Of
        {{ taken && 'kind' in taken ? taken.kind : 'invoice' }} <b>{{ taken?.number }}</b>:</p>
      <div class="fields">
        <label v-for="[name, label, hint] in form.fields" :key="name">{{ label }}<InputText v-model="header[name]"
          size="small" :placeholder="dated(name) ? 'yyyy-mm-dd' : hint"
          :class="{ wide: name === 'reason' || name === 'on_hold' }" />
        </label>
        <label v-if="charged">Charges of the order<Select v-model="header.charges_billed" size="small" :options="rules"
          option-value="value" option-label="label" placeholder="with the first invoice" />
        </label>
      </div>
      <LineTurner v-if="open !== 'hold'" v-model="first" :lines="lines" />
      <AnswerLines v-if="open === 'answer'" v-model="statements" :lines="shown" />
      <table v-else-if="open !== 'hold'">
        <thead>
          <tr>
            <th>Line</th><th>Item</th>
            <template v-if="counted">
              <th class="n">Ordered</th>
              <th class="n">{{ purchase ? 'Received' : 'Shipped' }}</th>
              <th class="n">{{ form.column }}</th>
            </template>
            <template v-if="open === 'change'">
              <th>Quantity</th>
              <th>Price</th>
              <th>Deliver on</th>
              <th v-if="started">New price also of what has moved</th>
            </template>
            <th v-else>{{ open === 'cancel' ? 'Cancel' : 'Quantity' }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="l in shown" :key="l.id" :data-line="l.at">
            <td>{{ l.number }}</td><td>{{ l.name }}</td>
            <template v-if="counted">
              <td class="n">{{ l.quantity }} {{ l.unit }}</td>
              <td class="n">{{ l.moved }}</td>
              <td class="n">{{ l[form.may] }}</td>
            </template>
            <template v-if="values[l.id]">
              <template v-if="open === 'change'">
                <td>
                  <InputText
                    v-model="values[l.id]!.quantity" size="small" inputmode="decimal"
                    :aria-label="`Quantity of line ${l.number}`" />
                </td>
                <td>
                  <InputText
                    v-model="values[l.id]!.unit_price" size="small" inputmode="decimal"
                    :aria-label="`Price of line ${l.number}`" />
                </td>
                <td>
                  <InputText
                    v-model="values[l.id]!.requested_delivery_on" size="small" class="day" placeholder="yyyy-mm-dd"
                    :aria-label="`Day of delivery of line ${l.number}`" />
                </td>
                <td v-if="started">
                  <input
                    v-if="values[l.id]!.unit_price !== (l.unit_price ?? '')" v-model="values[l.id]!.price_for"
                    type="checkbox" true-value="all" false-value=""
                    :aria-label="`The new price of line ${l.number} also counts for what has moved`" />
                </td>
              </template>
              <td v-else-if="open === 'cancel'">
                <input
                  v-if="l.left !== '0'" v-model="values[l.id]!.cancel" type="checkbox" true-value="yes" false-value=""
                  :aria-label="`Cancel line ${l.number}`" />
              </td>
              <td v-else>
                <InputText v-model="values[l.id]!.quantity" size="small" :aria-label="`Quantity of line ${l.number}`" />
              </td>
            </template>
          </tr>
        </tbody>
      </table>
      <p v-if="open === 'answer'"
        class="soft">{{ purchase ? 'What the supplier said is compared with the order.' : 'The partner is told this line by line, in the next 855 or 865.' }}
        A blank quantity is all of the line; + adds a statement for a part of it.</p>
      <p class="soft"><template v-if="counted && open !== 'cancel'">Blank lines stay as they are. A quantity may be in
        another unit, such as 2 BX. </template>
        <RouterLink to="/docs/orders#rules-for-all-of-them" target="_blank">What holds for all of these</RouterLink>
      </p>
      <StateNote v-if="failed && !held.length" :error="failed" @retry="refresh()" />
      <div v-if="held.length" class="held" role="alert">
        <p v-for="(f, i) in (failed as ProblemError).problem.findings" :key="i">{{ f.message }}</p>
        <p class="soft">Nothing was done.</p>
      </div>
      <div class="bar">
        <Button v-if="held.length" size="small" outlined label="Do it anyway" :loading="!!busy" @click="send(held)" />
        <Button v-else size="small" type="submit" :label="form.words" :disabled="nothing" :loading="!!busy" />
        <Button size="small" text label="Close" @click="close" />
      </div>
    </form>
    <StateNote v-else-if="failed && !held.length" :error="failed" @retry="refresh()" />
    <div v-else-if="held.length" class="held" role="alert">
      <p v-for="(f, i) in (failed as ProblemError).problem.findings" :key="i">{{ f.message }}</p>
    </div>
  </section>
</template>

<style scoped>
.acts {
  margin-bottom: 10px;
}
.did {
  margin: 4px 0 0;
}
form {
  padding: 12px 16px;
  margin-top: 8px;
}
form > .bar {
  margin-top: 8px;
}
.fields {
  display: flex;
  flex-wrap: wrap;
  gap: 6px 14px;
  margin-bottom: 8px;
}
label {
  display: grid;
  gap: 2px;
  font-size: 12px;
  color: var(--ink-soft);
}
.wide {
  min-width: 22rem;
}
table {
  width: 100%;
  border-collapse: collapse;
  font-size: 13px;
}
th {
  text-align: left;
  font-weight: 600;
  color: var(--ink-soft);
  font-size: 12px;
  padding: 2px 6px;
}
td {
  border-top: 1px solid var(--rule-soft);
  padding: 2px 6px;
}
.n {
  text-align: right;
  font-variant-numeric: tabular-nums;
}
td :deep(.p-inputtext) {
  width: 5.5rem;
  text-align: right;
}
td :deep(.p-inputtext.day) {
  width: 8rem;
  text-align: left;
}
.held {
  border-left: 3px solid var(--warning);
  background: var(--warning-wash);
  padding: 6px 12px;
  margin: 8px 0;
}
.held p {
  margin: 2px 0;
}
</style>
