import { shallowRef, triggerRef } from 'vue'

import type { Finding, RowsOutcome } from './api/client'

export const blockRows = 200
const mostBlocks = 4

export interface GridRow {
  row: number
  cells: string[]
  seq: number // order of the document; 0 is none
  outcome: string
  first: boolean // first row of its order
  last: boolean
  label: string
  findings: Map<number, Finding[]> // by column; 0 is the whole row
}

/**
 * A window onto a document's rows: only blocks near what is seen are fetched
 * and kept, so that a long document costs no more than a short one.
 */
export function rowWindow(fetchRows: (from: number, limit: number) => Promise<RowsOutcome>) {
  const rows = shallowRef<GridRow[]>([])
  const state = shallowRef({ loading: false, atEnd: false, error: undefined as unknown, sheet: '' })
  let blocks: { index: number; rows: GridRow[] }[] = []
  let generation = 0

  function publish() {
    rows.value = blocks.flatMap((b) => b.rows)
    triggerRef(rows)
  }

  async function block(index: number) {
    const answer = await fetchRows(index * blockRows + 1, blockRows)
    return { index, rows: build(answer), more: answer.more, sheet: answer.sheet ?? '' }
  }

  async function load(index: number, where: 'start' | 'after' | 'before') {
    if (state.value.loading && where !== 'start') return
    const mine = where === 'start' ? ++generation : generation
    state.value = { ...state.value, loading: true, error: undefined }
    try {
      const b = await block(index)
      if (mine !== generation) return
      if (where === 'start') blocks = [b]
      else if (where === 'after') blocks = [...blocks, b].slice(-mostBlocks)
      else blocks = [b, ...blocks].slice(0, mostBlocks)
      const newest = blocks[blocks.length - 1]?.index === index
      state.value = { loading: false, atEnd: newest ? !b.more : false, error: undefined, sheet: b.sheet }
      publish()
    } catch (error) {
      if (mine === generation) state.value = { ...state.value, loading: false, error }
    }
  }

  return {
    rows,
    state,
    /** show makes row n part of the window. */
    async show(n: number) {
      const index = Math.floor((n - 1) / blockRows)
      if (blocks.some((b) => b.index === index)) return
      await load(index, 'start')
      if ((n - 1) % blockRows < 30 && index > 0) await load(index - 1, 'before')
    },
    async after() {
      const last = blocks[blocks.length - 1]
      if (last && !state.value.atEnd) await load(last.index + 1, 'after')
    },
    async before() {
      const first = blocks[0]
      if (first && first.index > 0) await load(first.index - 1, 'before')
    },
    /** reload fetches what is seen anew, and leaves it where it is. */
    async reload() {
      if (!blocks.length) return load(0, 'start')
      const mine = ++generation
      try {
        const fresh = await Promise.all(blocks.map((b) => block(b.index)))
        if (mine !== generation) return
        blocks = fresh
        state.value = { ...state.value, loading: false, error: undefined }
        publish()
      } catch (error) {
        if (mine === generation) state.value = { ...state.value, loading: false, error }
      }
    },
  }
}

function build(answer: RowsOutcome): GridRow[] {
  const list: GridRow[] = answer.rows.map((r) => ({
    row: r.row,
    cells: r.cells,
    seq: 0,
    outcome: '',
    first: false,
    last: false,
    label: '',
    findings: new Map(),
  }))
  const at = new Map(list.map((r) => [r.row, r]))
  for (const s of answer.spans) {
    for (const r of list) {
      if (r.row < s.first || r.row > s.last) continue
      r.seq = s.seq
      r.outcome = s.outcome
      r.first = r.row === s.first
      r.last = r.row === s.last
      r.label = s.number || s.sender_number || `order ${s.seq}`
    }
  }
  for (const f of answer.findings) {
    const r = at.get(f.place.row ?? 0)
    if (!r) continue
    const column = f.place.column ?? 0
    r.findings.set(column, [...(r.findings.get(column) ?? []), f])
  }
  return list
}
