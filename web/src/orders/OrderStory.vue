<script setup lang="ts">
import Button from 'primevue/button'
import { computed } from 'vue'

import type { Interchange, Invoice, Movement, StoredOrder } from '../api/client'
import OutcomeMark from '../components/OutcomeMark.vue'
import { fieldName, interchangeWord } from '../format'
import { plus } from './decimal'
import WhenMark from '../components/WhenMark.vue'

// The story of an order on one line of time: what happened to it, who said so, and what went to the partner.
const props = defineProps<{ order: StoredOrder; interchanges: Interchange[] }>()
const emit = defineEmits<{ back: [of: Movement | Invoice] }>()

const numbers = computed(() => new Map((props.order.lines ?? []).map((l) => [l.id, l.number])))
const numberOf = (id: number) => numbers.value.get(id) ?? id
const mostSaid = 12 // lines of a movement, an answer or an invoice are listed; the others are counted
const more = (all: unknown[] | null | undefined) => {
  const n = (all?.length ?? 0) - mostSaid
  return n > 0 ? ` and ${n} more lines` : ''
}
const money = (v: Invoice) => [v.total ?? v.total_stated, v.currency].filter(Boolean).join(' ')
const words: Record<string, string> = { moved: 'posted', withdrawn: 'cancelled', 'taken back': 'undone' }

interface Moment {
  key: string
  at: string
  event?: NonNullable<StoredOrder['events']>[number]
  sent?: Interchange
  movements: Movement[]
  invoices: Invoice[]
  answers: NonNullable<StoredOrder['answers']>
}
const story = computed<Moment[]>(() => {
  const o = props.order
  const of = (lines: { order_revision: number }[] | null | undefined, revision: number) =>
    (lines ?? []).some((l) => l.order_revision === revision)
  const all: Moment[] = (o.events ?? []).map((event) => ({
    key: `e${event.revision}`,
    at: event.origin.at,
    event,
    movements: (o.movements ?? []).filter((m) => of(m.lines, event.revision)),
    invoices: (o.invoices ?? []).filter((v) => of(v.lines, event.revision)),
    answers: (o.answers ?? []).filter((a) => a.order_revision === event.revision),
  }))
  const known = new Set((o.events ?? []).map((e) => e.origin.interchange).filter(Boolean))
  for (const sent of props.interchanges) {
    if (!known.has(sent.id))
      all.push({ key: `i${sent.id}`, at: sent.at, sent, movements: [], invoices: [], answers: [] })
  }
  return all.sort((a, b) => a.at.localeCompare(b.at))
})

// What of a movement or invoice can be taken back still.
function left(number: string, all: { reverses?: string; number: string; lines: { quantity: string }[] | null }[]) {
  const own = all.filter((m) => (m.number === number && !m.reverses) || m.reverses === number)
  return plus(...own.flatMap((m) => (m.lines ?? []).map((l) => l.quantity))) !== '0'
}
const canGoBack = (of: Movement | Invoice) =>
  !of.reverses &&
  ('kind' in of
    ? left(
        of.number,
        (props.order.movements ?? []).filter((m) => m.kind === of.kind),
      )
    : left(of.number, props.order.invoices ?? []))
const quiet = new Set(['shipped', 'received', 'returned', 'invoiced', 'said', 'answer', 'invoice'])
// What moved, was billed or answered is said by its lines, and need not be said as changes of the order's.
const told = (m: Moment) => m.movements.length + m.invoices.length + m.answers.length > 0
const changes = (m: Moment) => (m.event?.changes ?? []).filter((c) => !quiet.has(c.field) || !told(m))
const unlisted = (m: Moment) =>
  Math.max(0, changes(m).length - mostSaid) + (told(m) ? 0 : (m.event?.changes_left_out ?? 0))
</script>

<template>
  <section class="events" aria-label="What happened">
    <h2>What happened</h2>
    <ol>
      <li v-for="m in story" :key="m.key">
        <span class="soft time"><WhenMark :at="m.at" /></span>
        <div>
          <template v-if="m.sent">
            <RouterLink
              :to="`/exchange/${m.sent.id}`">{{ m.sent.kinds }} {{ m.sent.direction === 'in' ? 'from' : 'to' }} {{ m.sent.partner }}</RouterLink> <OutcomeMark
              :word="interchangeWord(m.sent)" />
          </template>
          <template v-else-if="m.event">
            {{ words[m.event.action] ?? m.event.action }} by {{ m.event.origin.by }}<template
              v-if="m.event.origin.interchange"> in <RouterLink
              :to="`/exchange/${m.event.origin.interchange}`">interchange {{ m.event.origin.interchange }}</RouterLink>
            </template>
            <template v-else-if="m.event.origin.load"> in <RouterLink :to="`/loads/${m.event.origin.load}`">load
              {{ m.event.origin.load }}</RouterLink>
            </template>
            <span class="soft">, revision {{ m.event.revision }}</span>
          </template>
          <p v-for="v in m.movements" :key="`m${v.id}`">
            {{ v.kind }} <b>{{ v.number }}</b>{{ v.reverses ? ` takes back ${v.reverses}` : '' }}<template v-if="v.on">
              of {{ v.on }}</template>:
            <template v-for="(l, i) in (v.lines ?? []).slice(0, mostSaid)"
              :key="i">{{ i ? ', ' : '' }}{{ l.quantity }}{{ l.told ? ` (${l.told} ${l.told_unit})` : '' }} of line
              {{ numberOf(l.line) }}{{ l.lot ? `, lot ${l.lot}` : '' }}{{ l.package ? `, package ${l.package}` : '' }}{{ l.package_in ? ` in ${l.package_in}` : '' }}</template>{{ more(v.lines) }}
            <span
              class="soft">{{ ' ' + [v.carrier, v.tracking, v.bill_of_lading && `bill of lading ${v.bill_of_lading}`, v.weight && `${v.weight} ${v.weight_unit ?? ''}`, v.packages && `${v.packages} packages`, v.notes].filter(Boolean).join(', ') }}</span>
            <Button v-if="canGoBack(v)" size="small" text label="Take back …" @click="emit('back', v)" />
          </p>
          <p v-for="a in m.answers" :key="`a${a.order_revision}`">
            answer <b>{{ a.code }}</b>: <template v-for="(l, i) in (a.lines ?? []).slice(0, mostSaid)" :key="i">{{ i ? ', ' : '' }}line
              {{ numberOf(l.line) }} {{ l.code }} {{ l.quantity }}{{ l.unit_price ? ` at ${l.unit_price}` : '' }}{{ l.due_on ? ` for ${l.due_on}` : '' }}{{ l.reason ? ` (${l.reason})` : '' }}</template>{{ more(a.lines) }}
          </p>
          <p v-for="v in m.invoices" :key="`v${v.id}`">
            {{ v.reverses ? 'credit note' : 'invoice' }} <b>{{ v.number }}</b>{{ v.reverses ? ` against ${v.reverses}` : '' }}<template
              v-if="v.on"> of {{ v.on }}</template>:
            <template v-for="(l, i) in (v.lines ?? []).slice(0, mostSaid)" :key="i">{{ i ? ', ' : '' }}{{ l.quantity }} of line
              {{ numberOf(l.line) }}{{ l.unit_price ? ` at ${l.unit_price}` : '' }}</template>{{ more(v.lines) }}
            <template v-for="(c, i) in v.charges" :key="`c${i}`">,
              {{ c.code }} {{ c.allowance ? '−' : '' }}{{ c.amount }}</template>
            <b v-if="money(v)">, {{ money(v) }}</b>
            <Button v-if="canGoBack(v)" size="small" text label="Give back …" @click="emit('back', v)" />
          </p>
          <ul v-if="changes(m).length || unlisted(m)">
            <li v-for="(c, i) in changes(m).slice(0, mostSaid)"
              :key="i">{{ c.line ? `line ${c.line} ` : '' }}{{ fieldName(c.field) }} <span v-if="c.field !== 'reason'"
              class="was">{{ c.was || '(blank)' }}</span> {{ c.is || '(blank)' }} <span v-if="m.event?.origin.load"
              class="soft">{{ c.at }}</span>
            </li>
            <li v-if="unlisted(m)" class="soft">{{ changes(m).length ? 'and ' : '' }}{{ unlisted(m) }} more</li>
          </ul>
        </div>
      </li>
    </ol>
  </section>
</template>

<style scoped>
.events {
  margin-top: 16px;
  border-top: 1px solid var(--rule);
  padding-top: 10px;
}
ol {
  margin: 6px 0 0;
  padding: 0;
  list-style: none;
}
ol > li {
  display: grid;
  grid-template-columns: 8.5rem minmax(0, 1fr);
  gap: 8px;
  padding: 3px 0;
  border-left: 2px solid var(--rule);
  padding-left: 10px;
}
.time {
  font-variant-numeric: tabular-nums;
  font-size: 12.5px;
  padding-top: 1px;
}
p {
  margin: 2px 0;
}
p :deep(.p-button) {
  padding: 0 4px;
}
ul {
  margin: 2px 0;
  padding: 0;
  list-style: none;
  font-size: 13px;
}
.was {
  color: var(--ink-soft);
  text-decoration: line-through;
}
</style>
