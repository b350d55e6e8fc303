<script setup lang="ts">
import { computed, provide, toRef, watch } from 'vue'

import type { Finding, Located, Order } from '../api/client'
import { chargeField, deliveriesText, fieldLabel, fieldName } from '../format'
import { useLines } from '../lines'
import { plus } from '../orders/decimal'
import { statedFields, statedOfLine, statementTitle } from '../orders/statement'
import { Places, spotOf, type Spot } from '../places'
import LineTurner from './LineTurner.vue'
import OutcomeMark from './OutcomeMark.vue'
import { paperKey } from './paper'
import PaperValue from './PaperValue.vue'

// The order as a printed form. Point at a value and its cell lights up.
const props = defineProps<{
  order: Order
  places?: Located[]
  notes?: Map<string, string>
  findings?: Finding[]
  lit?: Spot
  mark?: string
}>()
const emit = defineEmits<{ point: [spot: Spot | undefined]; pick: [spot: Spot]; ask: [line: number, field: string] }>()

const places = computed(() => new Places(props.places))
provide(paperKey, {
  lit: toRef(props, 'lit'),
  place: (line, field) => spotOf(places.value.of(line, field)?.place),
  findings: (line, field) => (props.findings ?? []).filter((f) => (f.line ?? 0) === line && f.field === field),
  placeName: (line, field) => props.notes?.get(`${line} ${field}`) ?? places.value.of(line, field)?.at ?? '',
  point: (s) => emit('point', s),
  pick: (s) => emit('pick', s),
  ask: (line, field) => emit('ask', line, field === 'sum' ? 'total' : field === 'tax_amount' ? 'tax' : field),
})

const o = computed(() => props.order)
const kind = computed(() => {
  const order = o.value.kind === 'purchase' ? 'Purchase order' : 'Sales order'
  return o.value.statement ? statementTitle(o.value.statement, order) : order
})
// What the lines' charges add to their amounts, with as many digits.
const ofLines = computed(() => {
  const all = (o.value.lines ?? []).flatMap((l) => l.charges ?? [])
  if (!all.length) return ''
  const sum = plus(...all.map((c) => (c.allowance ? '-' : '') + (c.amount ?? '')))
  const places = o.value.goods?.split('.')[1]?.length ?? 0
  const [units, part = ''] = sum.replace('-', '−').split('.')
  return places ? `${units}.${part.padEnd(places, '0')}` : sum
})
const facts = computed(() =>
  (
    [
      ...(o.value.statement ? statedFields(o.value.statement) : []),
      ['ordered_on', o.value.ordered_on],
      ['requested_ship_on', o.value.requested_ship_on],
      ['requested_delivery_on', o.value.requested_delivery_on],
      ['cancel_after', o.value.cancel_after],
      ['payment_terms', o.value.payment_terms],
      ['delivery_terms', o.value.delivery_terms],
      ['price_level', o.value.price_level],
      ['tax_treatment', o.value.tax_treatment],
      ['currency', o.value.currency],
      ...(o.value.references ?? []).map((r) => [`reference.${r.qualifier}`, r.value]),
      ...(o.value.custom ?? []).map((c) => [`custom.${c.name}`, c.value]),
    ] as [string, string | undefined][]
  ).filter(([field, value]) => value || has(0, field)),
)
const parts = [
  'code',
  'name',
  'name2',
  'street',
  'street2',
  'postal_code',
  'city',
  'region',
  'country',
  'contact',
  'phone',
  'email',
] as const
const roles = computed(() => {
  const list = [...(o.value.parties ?? [])]
  for (const f of props.findings ?? []) {
    const role = f.field?.split('.')[0] ?? ''
    if (
      f.field?.includes('.') &&
      ['ship_to', 'bill_to', 'buyer', 'supplier', 'carrier'].includes(role) &&
      !list.some((p) => p.role === role)
    )
      list.push({ role })
  }
  return list
})
const columns = computed(() =>
  (
    [
      ['supplier_item', 'Their item'],
      ['buyer_item', "Buyer's item"],
      ['gtin', 'GTIN'],
      ['location', 'Location'],
      ['requested_delivery_on', 'Deliver on'],
    ] as const
  ).filter(
    ([c]) => o.value.lines?.some((l) => l[c]) || (props.findings ?? []).some((f) => f.field === c && (f.line ?? 0) > 0),
  ),
)
// Of a long order, a part of the lines is shown: the one with the cell that was chosen, or the one that is asked for.
const { first, shown, show } = useLines(() => o.value.lines ?? [])
const marked = computed(() =>
  [...new Set((props.findings ?? []).flatMap((f) => (f.line ? [f.line - 1] : [])))].sort((a, b) => a - b),
)
watch(
  () => props.lit,
  (spot) => {
    const line = spot && places.value.at(spot).find((l) => l.line)?.line
    if (line) show(line - 1)
  },
)
const loose = computed(() => (props.findings ?? []).filter((f) => !f.field))
function has(line: number, field: string) {
  return (props.findings ?? []).some((f) => (f.line ?? 0) === line && f.field === field)
}
</script>

<template>
  <article class="paper" :aria-label="`Order ${o.number ?? o.sender_number ?? ''}`">
    <header>
      <div>
        <div class="kind">{{ kind }}</div>
        <div class="number">{{ o.number || 'not numbered' }}</div>
      </div>
      <div class="right">
        <div class="stamp"><OutcomeMark v-if="mark" :word="mark" /></div>
        <div class="soft">Their number</div>
        <PaperValue field="sender_number" :value="o.sender_number" strong />
      </div>
    </header>
    <p v-for="(f, i) in loose" :key="i" class="loose" :class="f.severity">{{ f.message }} <span
      class="soft">{{ f.hint }} <RouterLink :to="`/docs/findings#${f.code}`">Explained</RouterLink>
      </span>
    </p>
    <div class="parties">
      <section>
        <h3>{{ o.kind === 'purchase' ? 'Supplier' : 'Customer' }}</h3>
        <PaperValue field="partner" :value="o.partner" strong />
      </section>
      <section v-for="p in roles" :key="p.role">
        <h3>{{ fieldLabel(p.role + '.') }}</h3>
        <span v-for="part in parts" :key="part" class="part">
          <PaperValue :field="`${p.role}.${part}`" :value="p[part]" :strong="part === 'name'" />
        </span>
      </section>
    </div>
    <dl>
      <div v-for="[field, value] in facts" :key="field">
        <dt>{{ fieldLabel(field) }}</dt>
        <dd><PaperValue :field="field" :value="value" /></dd>
      </div>
    </dl>
    <LineTurner v-model="first" :lines="o.lines ?? []" :marked="marked" />
    <div class="lines">
      <table>
        <thead>
          <tr>
            <th class="right"></th>
            <th>Item</th>
            <th v-for="[c, title] in columns" :key="c">{{ title }}</th>
            <th class="right">Quantity</th>
            <th class="right">Price</th>
            <th class="right">Amount</th>
          </tr>
        </thead>
        <tbody v-for="[l, i] in shown.map((l, k) => [l, first + k] as const)" :key="i" :data-line="i + 1">
          <tr>
            <td class="right soft"><PaperValue :line="i + 1" field="number" :value="l.number" /></td>
            <td><PaperValue :line="i + 1" field="item" :value="l.item" strong /></td>
            <td v-for="[c] in columns" :key="c"><PaperValue :line="i + 1" :field="c" :value="l[c]" /></td>
            <td class="right">
              <PaperValue :line="i + 1" field="quantity" :value="l.quantity" number /> <PaperValue :line="i + 1"
                field="unit" :value="l.unit" />
            </td>
            <td class="right"><PaperValue :line="i + 1" field="unit_price" :value="l.unit_price" number /></td>
            <td class="right">
              <PaperValue :line="i + 1" field="amount" :value="l.amount ?? l.amount_stated" number />
            </td>
          </tr>
          <tr class="under">
            <td></td>
            <td :colspan="columns.length + 1">
              <PaperValue :line="i + 1" field="description" :value="l.description" /> <PaperValue :line="i + 1"
                field="notes" :value="l.notes" />
            </td>
            <td :colspan="3" class="right">
              <template v-if="l.price_basis">per <PaperValue :line="i + 1" field="price_basis"
                :value="l.price_basis" /> </template>
              <template v-if="l.discount_percent && Number(l.discount_percent)"> less <PaperValue :line="i + 1"
                field="discount_percent" :value="l.discount_percent" /> %</template>
              <span v-for="c in l.charges ?? []" :key="chargeField(c)" class="moved">{{ c.allowance ? '−' : '+' }}
                {{ fieldName(c.code) }}{{ c.percent ? ` ${c.percent} %` : '' }} <PaperValue :line="i + 1"
                  :field="chargeField(c)" :value="c.amount" /></span>
              <template
                v-for="moved in (['shipped', 'received', 'returned', 'invoiced', 'cancelled', 'backordered'] as const)"
                :key="moved">
                <span v-if="l[moved] && Number(l[moved])" class="moved">{{ moved }} <PaperValue :line="i + 1"
                  :field="moved" :value="l[moved]" />
                </span>
              </template>
              <template v-if="o.statement">
                <span v-for="[field, value] in statedOfLine(o.statement.kind, l.statement)" :key="field"
                  class="moved">{{ fieldName(field) }} <PaperValue :line="i + 1" :field="field" :value="value" />
                </span>
              </template>
              <span v-for="(p, k) in l.earlier_prices" :key="`p${k}`" class="moved"
                title="What had moved or was invoiced when the price changed keeps the price of then">{{ p.quantity }}
                at {{ p.unit_price }}</span>
              <template v-if="l.tax_percent"> tax <PaperValue :line="i + 1" field="tax_percent"
                :value="l.tax_percent" /> %</template>
            </td>
          </tr>
          <tr v-if="l.deliveries?.length || has(i + 1, 'deliveries')" class="under">
            <td></td>
            <td :colspan="columns.length + 4">
              <span class="soft">deliveries:</span> <PaperValue :line="i + 1" field="deliveries"
                :value="deliveriesText(l.deliveries)" />
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <table class="sums">
      <tbody>
        <tr v-if="o.goods && o.goods !== o.total">
          <td>Goods</td>
          <td><PaperValue field="goods" :value="o.goods" number /></td>
        </tr>
        <tr v-if="ofLines">
          <td>Charges of lines</td>
          <td>{{ ofLines }}</td>
        </tr>
        <tr v-for="c in o.charges ?? []" :key="chargeField(c)">
          <td>{{ fieldLabel(c.code) }}{{ c.percent ? ` ${c.percent} %` : '' }}</td>
          <td>{{ c.allowance ? '−' : '' }}<PaperValue :field="chargeField(c)" :value="c.amount" number /></td>
        </tr>
        <tr v-if="o.tax"><td>Tax</td><td><PaperValue field="tax_amount" :value="o.tax" number /></td></tr>
        <tr class="total">
          <td>Total {{ o.currency }}</td>
          <td><PaperValue field="sum" :value="o.total" number strong /></td>
        </tr>
        <tr v-if="o.total_stated">
          <td class="soft">the document says</td>
          <td><PaperValue field="total" :value="o.total_stated" number /></td>
        </tr>
      </tbody>
    </table>
    <p v-if="o.notes" class="notes"><PaperValue field="notes" :value="o.notes" /></p>
    <slot />
  </article>
</template>

<style scoped>
.moved {
  margin-left: 8px;
  white-space: nowrap;
}
.paper {
  background: var(--paper);
  border: 1px solid var(--rule);
  border-radius: 2px;
  padding: 20px 24px 24px;
  font-size: 13px;
  box-shadow:
    0 1px 0 var(--rule),
    0 6px 18px -14px rgb(0 0 0 / 45%);
}
header {
  display: flex;
  justify-content: space-between;
  border-bottom: 2px solid var(--ink);
  padding-bottom: 10px;
}
.kind {
  font: 13px var(--serif);
  color: var(--ink-soft);
}
.number {
  font: 600 22px/1.2 var(--serif);
}
h3 {
  font: 400 11px var(--sans);
  color: var(--ink-soft);
  margin: 0 0 2px;
}
.parties {
  display: flex;
  flex-wrap: wrap;
  gap: 10px 28px;
  padding: 10px 0;
}
.parties section {
  max-width: 240px;
}
.part:not(:empty):not(:last-child)::after {
  content: ' ';
}
dl {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(140px, 1fr));
  gap: 6px 16px;
  margin: 0;
  padding: 10px 0;
  border-top: 1px solid var(--rule);
  border-bottom: 1px solid var(--rule);
}
dt {
  font-size: 11px;
  color: var(--ink-soft);
}
dd {
  margin: 0;
}
.lines {
  overflow-x: auto;
  margin-top: 8px;
}
table {
  border-collapse: collapse;
  width: 100%;
}
th {
  font-size: 11px;
  font-weight: 400;
  color: var(--ink-soft);
  text-align: left;
  padding: 3px 6px;
  border-bottom: 1px solid var(--rule);
}
th.right {
  text-align: right;
}
.lines td {
  padding: 4px 6px 0;
  vertical-align: top;
}
.under td {
  padding: 0 6px 4px;
  border-bottom: 1px solid var(--rule-soft);
  color: var(--ink-soft);
  font-size: 12px;
}
.sums {
  width: auto;
  margin: 10px 0 0 auto;
}
.sums td {
  padding: 2px 6px;
  text-align: right;
}
.total td {
  border-top: 2px solid var(--ink);
  font-weight: 600;
}
.notes {
  border-top: 1px solid var(--rule);
  padding-top: 8px;
  font-style: italic;
}
.loose {
  border-left: 3px solid var(--warning);
  padding-left: 8px;
}
.loose.error {
  border-left-color: var(--error);
}
</style>
