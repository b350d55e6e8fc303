<script setup lang="ts">
import Button from 'primevue/button'
import Select from 'primevue/select'
import { computed, ref } from 'vue'

import type { Charge, Field, Finding, Order } from '../api/client'
import { chargeField, fieldLabel, fieldName } from '../format'
import { statedFields, statedOfLine } from '../orders/statement'
import { explained } from './naming'
import type { Bound } from './text'

// The fields of the paper, each with the column that feeds it and the value
// that this gives the order under the cursor.
const props = defineProps<{
  bound: Bound[]
  fields: Field[]
  columns: { value: string; label: string }[]
  guesses: Map<string, string>
  order?: Order
  line: number
  findings: Finding[]
  armed: string
  extends?: boolean
  kind: string
}>()
const emit = defineEmits<{
  bind: [level: string, field: string, from: string]
  drop: [level: string, field: string, column: number]
  unbind: [level: string, field: string]
  arm: [key: string]
  confirm: [level: string, field: string]
  say: [level: string, field: string, word: string, value: string]
  fix: [level: string, field: string, value: string]
}>()

const open = ref('')
const over = ref('')
const adding = ref<string>()
const own = ref('')
const ownName = computed(() =>
  own.value
    .trim()
    .toLowerCase()
    .replace(/[^a-z0-9_]+/g, '_'),
)
const titles: Record<string, string> = {
  header: 'Header',
  lines: 'Lines',
  parties: 'Parties',
  charges: 'Charges',
  deliveries: 'Deliveries of a line',
}
const sections = computed(() =>
  Object.keys(titles)
    .map((level) => ({ level, title: titles[level]!, bound: props.bound.filter((b) => b.level === level) }))
    .filter((s) => s.bound.length),
)
// A record that moves or bills all that is open needs no lines.
const ofWholeOrders = computed(
  () =>
    !props.bound.some((b) => b.level === 'lines') &&
    props.bound.some((b) => b.level === 'header' && ['quantities', 'reverses'].includes(b.field)),
)
const unboundMust = computed(() =>
  props.extends
    ? []
    : props.fields.filter(
        (f) =>
          f.needed.includes(props.kind || 'sales') &&
          (f.level === 'header' || (f.level === 'lines' && !ofWholeOrders.value)) &&
          !props.bound.some((b) => b.level === f.level && b.field === f.name),
      ),
)
const addable = computed(() =>
  props.fields
    .filter((f) => !f.name.endsWith('*') && !props.bound.some((b) => b.level === f.level && b.field === f.name))
    .map((f) => ({ value: `${f.level}.${f.name}`, label: `${fieldLabel(f.name)} — ${f.level}`, about: f.about })),
)
const key = (b: { level: string; field: string }) => `${b.level}.${b.field}`

function value(b: Bound): string {
  const o = props.order as Record<string, unknown> | undefined
  if (!o) return ''
  const target = b.level === 'lines' ? (o.lines as Record<string, unknown>[] | undefined)?.[props.line] : o
  if (!target) return ''
  const renamed: Record<string, string> = { amount: 'amount_stated', total: 'total_stated' }
  const direct = target[renamed[b.field] ?? b.field]
  if (typeof direct === 'string') return direct
  const order = props.order!
  const said = order.statement // what records about orders say besides
  if (said) {
    const all =
      b.level === 'lines' ? statedOfLine(said.kind, order.lines?.[props.line]?.statement) : statedFields(said)
    const stated = all.find(([field]) => field === b.field)
    if (stated) return stated[1]
  }
  const [head, tail] = b.field.split(/\.(.*)/)
  const find = (list: unknown, by: string) =>
    (list as Record<string, string>[] | undefined)?.find((x) => x[by] === tail || x[by] === head)
  if (head === 'custom') return find(target.custom, 'name')?.value ?? ''
  if (head === 'reference') return find(target.references, 'qualifier')?.value ?? ''
  const charge = (target.charges as Charge[] | undefined)?.find((c) => chargeField(c) === b.field)
  if (charge) return charge.percent || charge.amount || ''
  return (find(target.parties, 'role') as Record<string, string> | undefined)?.[tail ?? ''] ?? ''
}

function found(b: Bound): Finding | undefined {
  const line = b.level === 'lines' ? props.line + 1 : 0
  return props.findings.find((f) => f.field === b.field && (f.line ?? 0) === line)
}

function dropped(e: DragEvent, b: { level: string; field: string }) {
  over.value = ''
  const column = Number(e.dataTransfer?.getData('text/koinos-column'))
  if (column) emit('drop', b.level, b.field, column)
}

function add(name?: string) {
  if (!name) return
  const [level, ...field] = name.split('.')
  adding.value = undefined
  emit('arm', `${level}.${field.join('.')}`)
}
const words = ['default', 'list', 'crosswalk', 'dates', 'expr', 'need'] as const
// Nothing says yet where the field gets its value; a draft writes that as an expression of nothing.
const blank = (b: Bound) => !b.from && !b.value && !b.label && !/(^|, )(expr|result|default): (?!"")/.test(b.words)
const word = (b: Bound, w: string) => new RegExp(`(?:^|, )${w}: (.*?)(?=, \\w+: |$)`).exec(b.words)?.[1] ?? ''
</script>

<template>
  <div class="fields">
    <section v-if="unboundMust.length" class="must">
      <b>These must be bound:</b>
      <Button
        v-for="f in unboundMust" :key="f.level + f.name" size="small" outlined severity="warn"
        :label="`${fieldLabel(f.name)} (${f.level})`" @click="emit('arm', `${f.level}.${f.name}`)" />
    </section>
    <p v-if="armed" class="arming" role="status">Choose the column for
      <b>{{ fieldName(armed.replace(/^\w+\./, '')) }}</b>: click its letter, or a cell of it. <Button size="small" text
      label="Cancel" @click="emit('arm', '')" />
    </p>
    <section v-for="s in sections" :key="s.level">
      <h3>{{ s.title }}<span v-if="s.level === 'lines' && order?.lines?.length" class="soft"> · line {{ line + 1 }} of
        {{ order.lines.length }}</span>
      </h3>
      <div
        v-for="b in s.bound" :key="key(b)" class="row" role="group" :aria-label="fieldName(b.field)"
          :class="[found(b)?.severity, { armed: armed === key(b), over: over === key(b) }]"
        @dragover.prevent="over = key(b)" @dragleave="over = ''" @drop.prevent="dropped($event, b)"
      >
        <button type="button" class="name" :title="guesses.get(key(b)) ?? b.words"
          @click="emit('arm', armed === key(b) ? '' : key(b))">{{ fieldLabel(b.field) }}<span v-if="guesses.has(key(b))"
          class="q" title="A guess">?</span>
        </button>
        <Select
          v-if="!b.value && !b.label" size="small" class="from" :model-value="b.from" :options="columns"
          option-label="label" option-value="value" filter
          :placeholder="b.from || (blank(b) ? 'choose a column' : 'computed')"
          :aria-label="`Column for ${fieldName(b.field)}`"
          @update:model-value="emit('bind', b.level, b.field, $event)" />
        <input
          v-else class="fixed" :value="b.value || `beside “${b.from}”`" :readonly="b.label"
          :aria-label="`Value of ${fieldName(b.field)}`"
          @change="emit('fix', b.level, b.field, ($event.target as HTMLInputElement).value)" />
        <span class="value"
          :title="found(b)?.message">{{ value(b) || (found(b) ? found(b)!.value || 'missing' : '–') }}</span>
        <Button
          size="small" text :label="open === key(b) ? 'Less' : 'More'" :aria-expanded="open === key(b)"
          @click="open = open === key(b) ? '' : key(b)" />
        <div v-if="blank(b)" class="said">
          <input
            class="fixed"
            :placeholder="b.field === 'partner' ? 'or your code of the partner, for every order' : 'or the same value for every order'"
            :aria-label="`Value of ${fieldName(b.field)} for every order`"
            @change="emit('fix', b.level, b.field, ($event.target as HTMLInputElement).value.trim())" />
        </div>
        <div v-if="found(b)" class="said">{{ found(b)!.message }} <span class="soft">{{ found(b)!.hint }}</span></div>
        <div v-if="guesses.has(key(b))" class="said guess">{{ guesses.get(key(b)) }} <Button v-if="!blank(b)"
          size="small" text label="It is right" @click="emit('confirm', b.level, b.field)" />
        </div>
        <div v-if="open === key(b)" class="more">
          <RouterLink class="explained" :to="`/docs/mapping#${explained(b.field)}`" target="_blank">What
            {{ fieldName(b.field) }} is</RouterLink>
          <label v-for="w in words" :key="w">
            <RouterLink :to="`/docs/mapping#${w}`" target="_blank" :title="`What ${w} does`">{{ w }}</RouterLink> <input
              :aria-label="`${w} of ${fieldName(b.field)}`" :value="word(b, w)"
              @change="emit('say', b.level, b.field, w, ($event.target as HTMLInputElement).value.trim())" />
          </label>
          <Button size="small" text severity="danger" label="Unbind" @click="emit('unbind', b.level, b.field)" />
        </div>
      </div>
    </section>
    <section class="bar">
      <Select
        v-model="adding" size="small" :options="addable" option-label="label" option-value="value" filter
        placeholder="Bind another field …" class="add" @update:model-value="add" />
    </section>
    <section class="bar own">
      <input
        v-model="own" class="fixed" placeholder="or a field of your own, e.g. hull_no"
        aria-label="Name of a field of your own" />
      <Button
        size="small" text label="on the header" :disabled="!ownName" @click="emit('arm', `header.custom.${ownName}`)" />
      <Button
        size="small" text label="on the lines" :disabled="!ownName" @click="emit('arm', `lines.custom.${ownName}`)" />
    </section>
  </div>
</template>

<style scoped>
.fields {
  padding: 10px 14px;
  display: flex;
  flex-direction: column;
  gap: 12px;
  font-size: 13px;
}
h3 {
  font: 600 13px var(--serif);
  margin: 0 0 4px;
}
.row {
  display: grid;
  grid-template-columns: 116px minmax(110px, 1.25fr) minmax(80px, 1fr) 44px;
  gap: 6px;
  align-items: center;
  padding: 2px 4px;
  border-top: 1px solid var(--rule-soft);
}
.row.armed,
.row.over {
  background: var(--accent-wash);
}
.name {
  font: inherit;
  text-align: left;
  color: inherit;
  background: none;
  border: 0;
  padding: 2px;
  cursor: pointer;
  overflow-wrap: anywhere;
}
.name:hover {
  text-decoration: underline;
}
.q {
  color: var(--warning);
  font-weight: 600;
  margin-left: 4px;
}
.from,
.fixed {
  min-width: 0;
  width: 100%;
}
.from :deep(.p-select-label) {
  padding: 3px 4px 3px 8px;
  font-size: 12.5px;
}
.from :deep(.p-select-dropdown) {
  width: 22px;
}
.row :deep(.p-button) {
  padding: 2px 4px;
  font-size: 12px;
}
.fixed,
.more input {
  font: inherit;
  color: inherit;
  background: var(--paper);
  border: 1px solid var(--rule);
  border-radius: 3px;
  padding: 3px 6px;
}
.value {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  font-weight: 600;
}
.error .value,
.error .said {
  color: var(--error);
}
.warning .value,
.warning .said {
  color: var(--warning);
}
.said {
  grid-column: 1 / -1;
  font-size: 12px;
}
.said.guess {
  color: var(--warning);
}
.more {
  grid-column: 1 / -1;
  display: grid;
  grid-template-columns: repeat(3, minmax(0, 1fr));
  gap: 6px;
  padding: 4px 0;
}
.explained {
  grid-column: 1 / -1;
  font-size: 12px;
}
.more label {
  font-size: 11.5px;
  color: var(--ink-soft);
  display: flex;
  flex-direction: column;
}
.more input {
  color: var(--ink);
  min-width: 0;
}
.must {
  display: flex;
  flex-wrap: wrap;
  gap: 6px;
  align-items: center;
  border-left: 3px solid var(--warning);
  padding-left: 8px;
}
.arming {
  margin: 0;
  background: var(--accent-wash);
  padding: 6px 8px;
  border-radius: 3px;
}
.add {
  width: 100%;
}
.own .fixed {
  flex: 1;
}
</style>
