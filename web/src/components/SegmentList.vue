<script setup lang="ts">
import Button from 'primevue/button'
import { nextTick, ref, watch } from 'vue'

import type { Item } from '../api/client'
import type { Spot } from '../places'
import StateNote from './StateNote.vue'

// An interchange as people read it: segments in their loops, each element with
// its name and what its value means, findings where they are.
const props = defineProps<{
  items: Item[]
  earlier?: boolean // there are segments before these
  later?: boolean // and behind them
  error?: unknown
  lit?: Spot
  setRow?: number
  setRows?: number
}>()
const emit = defineEmits<{ pick: [spot: Spot]; earlier: []; later: [] }>()
const box = ref<HTMLElement>()
const active = ref<Spot>({ row: 0, column: 0 })

async function goTo(row: number, column = 0) {
  active.value = { row, column }
  if (column) emit('pick', { row, column })
  await nextTick()
  const at =
    box.value?.querySelector<HTMLElement>(column ? `[data-at="${row}:${column}"]` : `[data-row="${row}"]`) ??
    box.value?.querySelector<HTMLElement>(`[data-row="${row}"]`)
  if (at && box.value) box.value.scrollTop = Math.max(0, at.offsetTop - box.value.clientHeight / 4)
}
// What the paper points at comes into view.
watch(
  () => props.lit,
  async (spot) => {
    await nextTick()
    if (spot)
      box.value
        ?.querySelector<HTMLElement>(`[data-at="${spot.row}:${spot.column}"]`)
        ?.scrollIntoView({ block: 'nearest' })
  },
)
function choose(row: number, column: number) {
  active.value = { row, column }
  emit('pick', { row, column })
}
const other = (i: Item) =>
  !!props.setRows &&
  !!props.setRow &&
  i.kind === 'segment' &&
  (i.row < props.setRow || i.row >= props.setRow + props.setRows)
const is = (s: Spot | undefined, row: number, column: number) => !!s && s.row === row && s.column === column

function onKey(e: KeyboardEvent) {
  const move = { ArrowDown: 1, ArrowUp: -1 }[e.key]
  if (!move) return
  e.preventDefault()
  const all = props.items.flatMap((i) => (i.elements ?? []).map((x) => ({ row: i.row, column: x.number + 1 })))
  const at = all.findIndex((s) => s.row === active.value.row && s.column === active.value.column)
  const from = at < 0 ? Math.max(0, all.findIndex((s) => s.row >= active.value.row) - (move > 0 ? 1 : 0)) : at
  const to = all[Math.min(all.length - 1, Math.max(0, from + move))]
  if (to) void goTo(to.row, to.column)
}
defineExpose({ goTo })
</script>

<template>
  <div
    ref="box" class="segments" tabindex="0" role="tree"
    aria-label="The interchange, segment by segment; arrow keys move"
    :aria-activedescendant="active.column ? `element-${active.row}-${active.column}` : undefined" @keydown="onKey">
    <StateNote v-if="error || !items.length" :error="error" empty="There is nothing to read." />
    <Button v-if="earlier" size="small" text label="Earlier segments" @click="emit('earlier')" />
    <div
      v-for="(i, n) in items" :key="n" role="treeitem" :aria-level="i.depth + 1"
      :aria-selected="active.row === i.row && !active.column" :aria-expanded="i.elements?.length ? true : undefined"
      class="item" :class="[i.kind, { other: other(i) }]" :data-row="i.row"
      :style="{ marginLeft: `${i.depth * 14}px` }">
      <div v-if="i.kind === 'segment'" class="id">
        <span class="row">{{ i.row }}</span>
        <b>{{ i.id }}</b>
        <span v-if="i.count" class="count">#{{ i.count }}</span> <span class="soft">{{ i.text }}</span>
      </div>
      <div v-else-if="i.id" class="id head"><span class="row">{{ i.row }}</span>{{ i.text }}</div>
      <div v-if="i.elements?.length" class="elements" role="group">
        <div
          v-for="e in i.elements" :id="`element-${i.row}-${e.number + 1}`" :key="e.number" role="treeitem"
          :aria-level="i.depth + 2" :aria-selected="is(active, i.row, e.number + 1)"
          :data-at="`${i.row}:${e.number + 1}`"
          :class="{ lit: is(lit, i.row, e.number + 1), active: is(active, i.row, e.number + 1), wrong: i.findings?.some((f) => f.element === e.number) }"
          tabindex="-1" @click="choose(i.row, e.number + 1)" @keydown.enter="choose(i.row, e.number + 1)">
          <span class="name"><span class="n">{{ String(e.number).padStart(2, '0') }}</span> {{ e.name }}</span>
          <span class="value">{{ e.value }} <span v-if="e.means" class="means">{{ e.means }}</span></span>
        </div>
      </div>
      <p v-for="(f, k) in i.findings" :key="k" class="finding">{{ f.message }} <span
        class="soft">{{ f.level }} {{ f.code }}</span>
      </p>
    </div>
    <Button v-if="later" size="small" text label="Later segments" @click="emit('later')" />
  </div>
</template>

<style scoped>
.segments {
  overflow: auto;
  padding: 10px 14px;
  font-size: 12.5px;
  position: relative;
}
.item {
  padding: 2px 0;
}
.item.other,
.item.other b {
  color: var(--ink-soft);
  font-weight: 400;
}
.id {
  display: flex;
  gap: 6px;
  align-items: baseline;
}
.id.head {
  font-weight: 600;
  border-bottom: 1px solid var(--rule-soft);
  padding-bottom: 2px;
  margin-top: 4px;
}
.row {
  min-width: 26px;
  color: var(--ink-soft);
  font-weight: 400;
  font-size: 11px;
  text-align: right;
}
.count {
  color: var(--ink-soft);
}
.elements {
  margin: 1px 0 2px 32px;
}
.elements > div {
  display: grid;
  grid-template-columns: minmax(150px, 210px) 1fr;
  gap: 10px;
  padding: 0 5px;
  cursor: pointer;
  border-radius: 2px;
}
.elements > div:hover {
  background: var(--desk);
}
.elements > div.lit {
  outline: 2px solid var(--accent);
  outline-offset: -1px;
  background: var(--accent-wash);
}
.elements > div.active {
  outline: 2px solid var(--ink);
  outline-offset: -1px;
}
.elements > div.wrong {
  background: var(--error-wash);
}
.name {
  color: var(--ink-soft);
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.n {
  font-variant-numeric: tabular-nums;
}
.value {
  overflow-wrap: anywhere;
}
.means {
  color: var(--ink-soft);
}
.finding {
  margin: 1px 0 3px 32px;
  border-left: 3px solid var(--error);
  padding-left: 7px;
}
</style>
