import type { SetRecord } from '../api/client'
import { fieldName } from '../format'

/** What a line of a transaction set asks for. */
export interface AskedLine {
  line: number // counted from 1; 0 is the header
  name: string
  changes: { what: string; at: string; row?: number; column?: number }[]
}

/** askedOf are the changes that a set asks for, by the lines of the set that ask for them. */
export function askedOf(set: Pick<SetRecord, 'findings'>): AskedLine[] {
  const lines = new Map<number, AskedLine>()
  for (const f of set.findings ?? []) {
    if (f.code !== 'change_asked') continue
    const line = f.line ?? 0
    const asked = lines.get(line) ?? {
      line,
      name: line ? `Line ${line} of the set` : 'The order as a whole',
      changes: [],
    }
    const what = f.message.replace(/^Asked for: (.*)\.$/, '$1')
    asked.changes.push({
      what: f.field ? what.replace(f.field, fieldName(f.field)) : what,
      at: f.at ?? '',
      row: f.place.row,
      column: f.place.column,
    })
    lines.set(line, asked)
  }
  return [...lines.values()].sort((a, b) => a.line - b.line)
}

/** decidedOf says what a person has decided about the changes of a set. */
export function decidedOf(set: Pick<SetRecord, 'decided'>): string {
  const d = set.decided
  if (!d) return ''
  if (!d.taken?.length) return `${d.by} refused all that it asks for.`
  const lines = d.taken.filter((l) => l > 0)
  const what = [
    d.taken.includes(0) ? 'the header' : '',
    lines.length ? `${lines.length > 1 ? 'lines' : 'line'} ${lines.join(', ')}` : '',
  ]
  return `${d.by} took what it asks for in ${what.filter((w) => w).join(' and ')}.`
}
