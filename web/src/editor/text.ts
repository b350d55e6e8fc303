import { isMap, isScalar, isSeq, parseDocument, type Document, type YAMLMap } from 'yaml'

/** A binding as the field table shows it. */
export interface Bound {
  level: string
  field: string
  from: string // the first source, as it is written
  label: boolean // from is a label, not a column
  value: string
  words: string // everything else, as flow YAML
}

export const levels = ['header', 'lines', 'parties', 'charges', 'deliveries'] as const

function read(text: string): Document.Parsed {
  return parseDocument(text, { keepSourceTokens: true })
}

function write(doc: Document.Parsed): string {
  return doc.toString({ lineWidth: 0, flowCollectionPadding: false })
}

function plain(v: unknown): string {
  if (v === undefined || v === null) return ''
  if (isScalar(v)) return typeof v.source === 'string' ? v.source : String(v.value)
  if (isSeq(v)) return v.items.map(plain).join(', ')
  return String(v)
}

function list(v: unknown): string[] {
  if (isSeq(v)) return v.items.map(plain)
  return v === undefined || v === null ? [] : [plain(v)]
}

/** The mapping as the tables show it; undefined where the text is no YAML. */
export function outline(text: string) {
  const doc = read(text)
  if (doc.errors.length || !isMap(doc.contents)) return undefined
  const bound: Bound[] = []
  for (const level of levels) {
    const section = doc.get(level)
    if (!isMap(section)) continue
    for (const pair of section.items) {
      const b = pair.value
      if (!isMap(b)) continue
      const rest = b.items.filter((p) => !['from', 'label', 'cell', 'value'].includes(plain(p.key)))
      bound.push({
        level,
        field: plain(pair.key),
        from: plain(b.get('from', true) ?? b.get('label', true) ?? b.get('cell', true)),
        label: b.has('label') || b.has('cell'),
        value: plain(b.get('value', true)),
        words: rest.map((p) => `${plain(p.key)}: ${plain(p.value)}`).join(', '),
      })
    }
  }
  const at = (path: string[]) => plain(doc.getIn(path, true))
  return {
    name: at(['name']),
    extends: at(['extends']),
    kind: at(['orders', 'kind']),
    of: at(['orders', 'of']),
    by: at(['orders', 'group', 'by']),
    columns: list(doc.getIn(['orders', 'group', 'columns'], true)),
    rows: at(['orders', 'group', 'rows']),
    unused: list(doc.getIn(['document', 'unused'], true)),
    bound,
  }
}
export type Outline = NonNullable<ReturnType<typeof outline>>

function edit(text: string, change: (doc: Document.Parsed) => void): string {
  const doc = read(text)
  if (doc.errors.length) return text
  change(doc)
  return write(doc)
}

function flow(doc: Document.Parsed, value: unknown) {
  const node = doc.createNode(value)
  if (isMap(node) || isSeq(node)) node.flow = true
  return node
}

/** bind makes a source feed a field; what else the binding says stays. */
export function bind(text: string, level: string, field: string, from: string): string {
  return edit(text, (doc) => {
    if (!isMap(doc.get(level))) doc.set(level, doc.createNode({}))
    const section = doc.get(level) as YAMLMap
    const has = section.get(field)
    if (isMap(has)) {
      for (const k of ['value', 'label', 'cell']) has.delete(k)
      has.items = has.items.filter((p) => plain(p.key) !== 'from')
      has.items.unshift(doc.createPair('from', from) as never)
      dropGuess(has)
      return
    }
    section.set(field, flow(doc, { from }))
  })
}

/** dropGuess takes the comment of a drafted binding away: a person has decided. */
function dropGuess(node: YAMLMap) {
  if (node.comment?.trim().startsWith('?')) node.comment = undefined
}

export function fix(text: string, level: string, field: string, value: string): string {
  return edit(text, (doc) => {
    if (!isMap(doc.get(level))) doc.set(level, doc.createNode({}))
    ;(doc.get(level) as YAMLMap).set(field, flow(doc, { value }))
  })
}

export function unbind(text: string, level: string, field: string): string {
  return edit(text, (doc) => {
    doc.deleteIn([level, field])
  })
}

/** confirm takes the question mark off a drafted binding. */
export function confirm(text: string, level: string, field: string): string {
  return edit(text, (doc) => {
    const b = doc.getIn([level, field])
    if (isMap(b)) dropGuess(b)
  })
}

/** say sets one word of a binding; blank takes it out. */
export function say(text: string, level: string, field: string, word: string, value: string): string {
  return edit(text, (doc) => {
    const b = doc.getIn([level, field])
    if (!isMap(b)) return
    if (value)
      b.set(
        word,
        value.includes(',') && ['dates', 'by'].includes(word)
          ? flow(
              doc,
              value.split(',').map((s) => s.trim()),
            )
          : value,
      )
    else b.delete(word)
  })
}

/**
 * setGroup says which rows make an order. What the grouping said besides stays
 * as far as it goes with the new one.
 */
export function setGroup(
  text: string,
  group: { by: string; columns?: string[]; rows?: string },
  goes: (word: string, by: string) => boolean,
): string {
  return edit(text, (doc) => {
    if (!isMap(doc.getIn(['orders', 'group']))) doc.setIn(['orders', 'group'], flow(doc, { by: group.by }))
    const g = doc.getIn(['orders', 'group']) as YAMLMap
    if (plain(g.get('by', true)) !== group.by) {
      g.set('by', group.by)
      g.items = g.items.filter((p) => plain(p.key) === 'by' || goes(plain(p.key), group.by))
      dropGuess(g)
    }
    if (goes('columns', group.by)) {
      if (!group.columns?.length) g.delete('columns')
      else if (list(g.get('columns', true)).join('\n') !== group.columns.join('\n'))
        g.set('columns', flow(doc, group.columns.length === 1 ? group.columns[0] : group.columns))
    }
    if (goes('rows', group.by)) {
      if (group.rows === 'anywhere') g.set('rows', 'anywhere')
      else g.delete('rows')
    }
    if (goes('count', group.by) && !g.has('count')) g.set('count', 2)
  })
}

export const setKind = (text: string, kind: string) =>
  edit(text, (doc) => {
    const orders = doc.get('orders')
    if (isMap(orders)) orders.set('kind', doc.createNode(kind)) // the guess's comment goes with the old word
  })
export const setOf = (text: string, of: string) => edit(text, (doc) => doc.setIn(['orders', 'of'], of))
export const setName = (text: string, name: string) => edit(text, (doc) => doc.setIn(['name'], name))

/** leaveOut says that a column is left out on purpose, or takes that back. */
export function leaveOut(text: string, column: string, out: boolean): string {
  return edit(text, (doc) => {
    const now = outline(text)?.unused ?? []
    const next = out ? [...now, column] : now.filter((c) => c !== column)
    if (!next.length) {
      doc.deleteIn(['document', 'unused'])
      return
    }
    if (!isMap(doc.get('document'))) doc.set('document', doc.createNode({}))
    doc.setIn(['document', 'unused'], flow(doc, next))
  })
}

/** guess gives the note of a drafted binding that is not sure; blank is none. */
export function guesses(text: string): Map<string, string> {
  const found = new Map<string, string>()
  let level = ''
  for (const line of text.split('\n')) {
    const head = /^(\w+):/.exec(line)
    if (head) level = head[1]!
    const m = /^\s+([\w.*-]+):.*# \?\s*(.*)$/.exec(line)
    if (m) found.set(`${level}.${m[1]}`, m[2]!)
  }
  return found
}
