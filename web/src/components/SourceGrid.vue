<script setup lang="ts">
import { computed, nextTick, ref, watch } from 'vue'

import type { Finding, RowsOutcome } from '../api/client'
import { columnName } from '../format'
import type { Spot } from '../places'
import { rowWindow, type GridRow } from '../rows'
import StateNote from './StateNote.vue'

/** What a column feeds, for the mapping editor. */
export interface Role {
  role: string
  fields: string[]
}

// A document's cells as its spreadsheet shows them, with a band in the margin
// for each order and the findings at their cells.
const props = defineProps<{
  fetchRows: (from: number, limit: number) => Promise<RowsOutcome>
  lit?: Spot // cell that something else points at
  order?: number // order whose rows are tinted
  start?: number // row to begin at
  roles?: Map<number, Role> // what columns feed
  heading?: number // row of the headings
  armed?: boolean // a column is being chosen
}>()
const emit = defineEmits<{
  pick: [spot: Spot, seq: number, findings: Finding[]]
  sheet: [name: string]
  column: [column: number]
  seen: [from: number, to: number]
}>()

const rowHeight = 24
const scroller = ref<HTMLElement>()
const table = ref<HTMLElement>()
const active = ref<Spot>({ row: 0, column: 0 })
const windowed = rowWindow((from, limit) => props.fetchRows(from, limit))
const { rows, state } = windowed
const width = computed(() =>
  Math.min(
    200,
    rows.value.reduce((w, r) => Math.max(w, r.cells.length, ...r.findings.keys()), 1),
  ),
)

watch(
  () => state.value.sheet,
  (s) => emit('sheet', s),
)
void windowed.show(props.start ?? 1).then(async () => {
  await nextTick()
  // A few rows above the first, for their heading.
  if (scroller.value && props.start)
    scroller.value.scrollTop = (props.start - (rows.value[0]?.row ?? 1) - 3) * rowHeight
})

async function goTo(spot: Spot, select = true) {
  await windowed.show(Math.max(1, spot.row))
  if (select) choose(spot, false)
  else active.value = spot
  await nextTick()
  const first = rows.value[0]?.row ?? 1
  const box = scroller.value
  if (!box) return
  const top = (spot.row - first) * rowHeight
  if (top < box.scrollTop + rowHeight || top > box.scrollTop + box.clientHeight - 3 * rowHeight)
    box.scrollTop = Math.max(0, top - box.clientHeight / 3)
  const cell = box.querySelector<HTMLElement>(`[data-at="${spot.row}:${spot.column}"]`)
  if (
    cell &&
    (cell.offsetLeft < box.scrollLeft + 130 || cell.offsetLeft + cell.offsetWidth > box.scrollLeft + box.clientWidth)
  )
    box.scrollLeft = Math.max(0, cell.offsetLeft - 150)
}

/** isLit finds the cell that is pointed at; a value of JSON by its pointer. */
function isLit(r: GridRow, column: number): boolean {
  const l = props.lit
  if (!l || l.column !== column) return false
  return l.pointer ? r.cells[column - 2] === l.pointer && Math.abs(r.row - l.row) < 500 : l.row === r.row
}

async function onScroll() {
  const box = scroller.value!
  if (box.scrollTop + box.clientHeight > box.scrollHeight - 600) {
    const before = rows.value[0]?.row ?? 1
    await windowed.after()
    await nextTick()
    box.scrollTop -= ((rows.value[0]?.row ?? before) - before) * rowHeight
  } else if (box.scrollTop < 400) {
    const before = rows.value[0]?.row ?? 1
    await windowed.before()
    await nextTick()
    box.scrollTop += (before - (rows.value[0]?.row ?? before)) * rowHeight
  }
}

function choose(spot: Spot, focus = true) {
  active.value = spot
  const r = rows.value.find((x) => x.row === spot.row)
  emit('pick', spot, r?.seq ?? 0, r?.findings.get(spot.column) ?? [])
  if (focus) table.value?.focus({ preventScroll: true })
}

function severity(r: GridRow, column: number): string {
  const list = r.findings.get(column)
  if (!list) return ''
  return list.some((f) => f.severity === 'error') ? 'error' : 'warning'
}

/** spills reports whether a long text may run over the blank cells behind it, as titles do in a spreadsheet. */
function spills(r: GridRow, column: number): boolean {
  return (r.cells[column - 1]?.length ?? 0) > 20 && !r.seq && r.cells.slice(column).every((c) => !c)
}

function tip(r: GridRow, column: number): string | undefined {
  return r.findings
    .get(column)
    ?.map((f) => `${f.message} ${f.hint ?? ''}`)
    .join('\n')
}

const moves: Record<string, [number, number]> = {
  ArrowUp: [-1, 0],
  ArrowDown: [1, 0],
  ArrowLeft: [0, -1],
  ArrowRight: [0, 1],
  PageUp: [-15, 0],
  PageDown: [15, 0],
}
function onKey(e: KeyboardEvent) {
  const move = moves[e.key]
  const list = rows.value
  if (e.key === 'Enter' && active.value.row) {
    e.preventDefault()
    choose(active.value)
    return
  }
  if (!move || !list.length || e.ctrlKey || e.metaKey || e.altKey) return
  e.preventDefault()
  const from = active.value.row ? active.value : { row: list[0]!.row - 1, column: 1 }
  const row = Math.min(list[list.length - 1]!.row, Math.max(1, from.row + move[0]))
  void goTo({ row, column: Math.min(width.value, Math.max(1, from.column + move[1])) }, !props.armed) // while a column is chosen, Enter decides
}

defineExpose({ goTo, reload: windowed.reload })
</script>

<template>
  <div ref="scroller" class="grid sheet" @scroll.passive="onScroll">
    <StateNote v-if="state.error || (!rows.length && !state.loading)" :error="state.error" empty="There are no rows here." @retry="windowed.reload()" />
    <table
      v-if="rows.length" ref="table" role="grid" tabindex="0" aria-label="The document's cells; arrow keys move, Enter chooses" aria-rowcount="-1"
      :aria-activedescendant="active.row ? `cell-${active.row}-${active.column}` : undefined" @keydown="onKey"
    >
      <thead>
        <tr>
          <th class="margin">order</th>
          <th class="number" aria-label="row"></th>
          <th
            v-for="c in width" :key="c" :class="[{ armed }, roles && `role-${roles.get(c)?.role ?? 'none'}`]" :draggable="!!roles" :title="roles?.get(c)?.fields.join('\n')"
            @click="emit('column', c)" @dragstart="$event.dataTransfer?.setData('text/koinos-column', String(c))"
          >{{ columnName(c) }}<span v-if="roles?.get(c)?.fields.length" class="feeds">{{ roles.get(c)!.fields.map((f) => f.replace(/^\w+\./, '')).join(', ') }}</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in rows" :key="r.row" :aria-rowindex="r.row" :class="{ chosen: r.seq > 0 && r.seq === order, heading: r.row === heading }">
          <td class="margin" role="rowheader" :title="r.seq ? `${r.label}: ${r.outcome}` : undefined" @click="choose({ row: r.row, column: 1 })">
            <span v-if="r.seq" class="band" :class="[r.outcome, r.seq % 2 ? 'odd' : 'even', { first: r.first, last: r.last }]">
              <span v-if="r.first || r === rows[0]" class="label">{{ r.label }}</span>
            </span>
          </td>
          <td class="number" role="rowheader" :class="severity(r, 0)" :title="tip(r, 0)">{{ r.row }}</td>
          <td
            v-for="c in width" :key="c" role="gridcell" :id="`cell-${r.row}-${c}`" :aria-selected="active.row === r.row && active.column === c" :aria-invalid="severity(r, c) === 'error' || undefined" :data-at="`${r.row}:${c}`" :title="tip(r, c) ?? (r.cells[c - 1] && r.cells[c - 1]!.length > 24 ? r.cells[c - 1] : undefined)"
            :class="[severity(r, c), { spill: spills(r, c), active: active.row === r.row && active.column === c, lit: isLit(r, c) }, roles?.get(c) && `role-${roles.get(c)!.role}`]"
            @click="choose({ row: r.row, column: c })"
          >{{ r.cells[c - 1] }}</td>
        </tr>
      </tbody>
    </table>
    <div v-if="state.loading" class="soft more" role="status">Reading rows …</div>
  </div>
</template>

<style scoped>
.grid {
  overflow: auto;
  position: relative;
  font-size: 12.5px;
  height: 100%;
}
table {
  border-collapse: separate;
  border-spacing: 0;
  outline: none;
}
.grid:has(table:focus-visible) {
  outline: 2px solid var(--accent);
  outline-offset: -2px;
}
th {
  position: sticky;
  top: 0;
  z-index: 3;
  background: var(--desk);
  color: var(--ink-soft);
  font-weight: 400;
  height: 24px;
  border-bottom: 1px solid var(--rule);
  border-right: 1px solid var(--rule-soft);
  padding: 0 6px;
}
td {
  height: 24px;
  line-height: 23px;
  padding: 0 6px;
  border-bottom: 1px solid var(--rule-soft);
  border-right: 1px solid var(--rule-soft);
  white-space: nowrap;
  max-width: 220px;
  overflow: hidden;
  text-overflow: ellipsis;
  cursor: cell;
  background: var(--paper);
}
td.spill {
  overflow: visible;
  position: relative;
  z-index: 1;
  max-width: 0;
}
.margin {
  position: sticky;
  left: 0;
  z-index: 2;
  width: 92px;
  min-width: 92px;
  max-width: 92px;
  padding: 0 0 0 6px;
  border-bottom-color: transparent;
  background: var(--desk);
  overflow: visible;
}
th.margin {
  z-index: 4;
  text-align: left;
  padding-left: 10px;
}
.number {
  position: sticky;
  left: 92px;
  z-index: 2;
  min-width: 40px;
  text-align: right;
  color: var(--ink-soft);
  background: var(--desk);
  cursor: default;
}
th.number {
  z-index: 4;
}
.band {
  display: block;
  height: 24px;
  margin-right: 6px;
  padding-left: 8px;
  border-left: 5px solid var(--accent);
  font-size: 11px;
  overflow: hidden;
  text-overflow: ellipsis;
}
.band.odd {
  background: var(--band-a);
}
.band.even {
  background: var(--band-b);
}
.band.refused {
  border-left-color: var(--error);
}
.band.held,
.band.withheld {
  border-left-color: var(--warning);
}
.band.withheld {
  border-left-color: var(--warning);
}
.band.unchanged {
  border-left-color: var(--ink-soft);
}
.band.refused .label {
  color: var(--error);
  font-weight: 600;
}
.band.held .label,
.band.withheld .label {
  color: var(--warning);
  font-weight: 600;
}
.band.first {
  border-top-left-radius: 4px;
  margin-top: 1px;
  height: 23px;
}
.band.last {
  border-bottom-left-radius: 4px;
  height: 22px;
}
.chosen td:not(.margin):not(.number) {
  background: color-mix(in srgb, var(--accent-wash) 45%, var(--paper));
}
td.error,
.chosen td.error:not(.margin):not(.number) {
  background: var(--error-wash);
  box-shadow: inset 0 -2px 0 var(--error);
}
td.warning,
.chosen td.warning:not(.margin):not(.number) {
  background: var(--warning-wash);
  box-shadow: inset 0 -2px 0 var(--warning);
}
td.lit,
.chosen td.lit:not(.margin) {
  outline: 2px solid var(--accent);
  outline-offset: -2px;
  background: var(--accent-wash);
}
td.active {
  outline: 2px solid var(--ink);
  outline-offset: -2px;
}
th .feeds {
  display: block;
  font-size: 10.5px;
  line-height: 13px;
  max-width: 140px;
  overflow: hidden;
  text-overflow: ellipsis;
  color: var(--accent);
}
th.armed {
  cursor: crosshair;
  background: var(--accent-wash);
}
th[draggable='true'] {
  cursor: grab;
}
tr.heading td:not(.margin) {
  font-weight: 600;
  border-bottom-color: var(--ink-soft);
}
td.role-header,
td.role-group,
th.role-header,
th.role-group {
  background: color-mix(in srgb, var(--band-a) 38%, var(--paper));
}
td.role-group,
th.role-group {
  box-shadow: inset 3px 0 0 var(--accent);
}
td.role-line,
th.role-line,
td.role-party,
td.role-charge {
  background: color-mix(in srgb, var(--band-b) 38%, var(--paper));
}
th.role-none {
  color: var(--ink-soft);
  font-style: italic;
}
.more {
  padding: 6px 10px;
}
</style>
