import { filters } from './which'

/** How a table of orders looks, and what it is for. */
export interface Table {
  layout: string
  columns: string[]
  open: boolean
  sums: boolean
  /** What the table is filled in for, or read. */
  for: string
}

export const layouts = [
  { value: 'every', label: 'A line, with the facts of its order' },
  { value: 'first', label: 'A line; the facts of its order on the first' },
  { value: 'order', label: 'An order' },
  { value: 'apart', label: 'Orders and lines, in two tables' },
]
export const purposes = [
  { value: 'read', label: 'to be read' },
  { value: 'change', label: 'to change values in it' },
  { value: 'shipment', label: 'to fill in what is shipped' },
  { value: 'receipt', label: 'to fill in what is received' },
  { value: 'return', label: 'to fill in what came back' },
  { value: 'invoice', label: 'to fill in what is billed' },
]
export const formats = [
  { value: 'xlsx', label: 'Workbook (XLSX)' },
  { value: 'ods', label: 'Workbook (ODS)' },
  { value: 'csv', label: 'CSV' },
  { value: 'tsv', label: 'TSV' },
  { value: 'json', label: 'JSON' },
  { value: 'ndjson', label: 'NDJSON' },
]

/** sidesOf is which orders a table for a purpose can be of; several are for the reader to choose. */
export function sidesOf(purpose: string, filtered: string): string[] {
  const fixed = { shipment: 'sales', receipt: 'purchase' }[purpose]
  if (fixed) return [fixed]
  return filtered ? [filtered] : ['sales', 'purchase']
}

/** queryOfTable is a table as the call for it has it. Usual columns need not be named. */
export function queryOfTable(t: Table, usual: string[] = [], kind = ''): Record<string, string> {
  const q: Record<string, string> = { layout: t.layout }
  if (t.columns.join() !== usual.join()) q.column = t.columns.join(',')
  if (t.open) q.open = 'true'
  if (t.sums) q.sums = 'true'
  if (t.for !== 'read') q.for = t.for
  if (kind) q.kind = kind
  return q
}

/** tableOf reads the table of a choice that is kept; its filter is left to others. */
export function tableOf(choice: string, usual: Record<string, string[]>): Table {
  const q = new URLSearchParams(choice)
  const layout = q.get('layout') || 'every'
  return {
    layout,
    columns: q.get('column')?.split(',') ?? [...(usual[layout] ?? [])],
    open: q.get('open') === 'true',
    sums: q.get('sums') === 'true',
    for: q.get('for') ?? 'read',
  }
}

/** choiceOf is what is kept under a name: which orders, and how their table looks. */
export function choiceOf(filter: Record<string, string>, table: Record<string, string>): string {
  const kept = Object.entries(filter).filter(([name]) => (filters as readonly string[]).includes(name))
  return new URLSearchParams({ ...table, ...Object.fromEntries(kept) }).toString()
}
