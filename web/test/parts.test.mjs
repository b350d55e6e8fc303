import assert from 'node:assert/strict'
import { test } from 'node:test'
import { ref, nextTick } from 'vue'

import { columnName, count, deliveriesText, interchangeWord, money } from '../src/format.ts'
import { Places, spotOf } from '../src/places.ts'
import { rowWindow } from '../src/rows.ts'
import { answered } from '../src/orders/answer.ts'
import { inUnit } from '../src/orders/decimal.ts'
import { choiceOf, queryOfTable, sidesOf, tableOf } from '../src/orders/exporting.ts'
import { numbersIn } from '../src/orders/which.ts'
import { statedFields, statedOfLine, statementTitle } from '../src/orders/statement.ts'
import { askedOf, decidedOf } from '../src/exchange/asked.ts'
import { isDoneOnce, once } from '../src/api/once.ts'
import { useHistory } from '../src/editor/history.ts'
import { explained, nameOf, pathUnder } from '../src/editor/naming.ts'
import { at, goesWith } from '../src/editor/suggest.ts'
import * as edit from '../src/editor/text.ts'

test('columns have the letters of a spreadsheet', () => {
  for (const [n, name] of [
    [1, 'A'],
    [26, 'Z'],
    [27, 'AA'],
    [52, 'AZ'],
    [702, 'ZZ'],
    [703, 'AAA'],
  ])
    assert.equal(columnName(n), name)
})

test('numbers are written out as people write them', () => {
  assert.equal(count(1, 'order'), '1 order')
  assert.equal(count(1200, 'order'), '1,200 orders')
  assert.equal(money('1234.5'), '1\u202f234.5')
  assert.equal(money('-1234567.89'), '-1\u202f234\u202f567.89')
})

test('deliveries are written as the commands write them', () => {
  assert.equal(
    deliveriesText([
      { quantity: '30', unit: 'MTR', location: '0040', requested_ship_on: '2026-03-24' },
      { quantity: '10', location: 'Quay 7; gate "B"', requested_delivery_on: '2026-04-03' },
    ]),
    '30 MTR to 0040, leaves 2026-03-24; 10 to "Quay 7; gate \\"B\\"", arrives 2026-04-03',
  )
  assert.equal(deliveriesText(undefined), '')
})

test('what a notice says is found by the fields that a mapping binds', () => {
  const shipment = { kind: 'shipment', number: 'LS-1', on: '2026-03-18', carrier: 'Tern', at: '1405' }
  assert.equal(statementTitle(shipment, 'Sales order'), 'Shipment of a sales order')
  assert.deepEqual(statedFields(shipment), [
    ['shipment', 'LS-1'],
    ['shipped_on', '2026-03-18'],
    ['shipped_at', '1405'],
    ['carrier', 'Tern'],
  ])
  assert.deepEqual(statedFields({ kind: 'answer', code: 'AC', on: '2026-03-18' }), [
    ['answered_on', '2026-03-18'],
    ['answer', 'AC'],
  ])
  assert.deepEqual(statedOfLine('answer', { code: 'IQ', asked: 'QD', accepted: '60' }), [
    ['answer', 'IQ'],
    ['change', 'QD'],
    ['accepted', '60'],
  ])
  assert.deepEqual(statedOfLine('change', { code: 'delete' }), [['change', 'delete']])
  assert.deepEqual(statedOfLine('shipment', undefined), [])
})

test('an answer says only what was filled in', () => {
  assert.deepEqual(inUnit(' 2 bx '), { quantity: '2', unit: 'BX' })
  assert.deepEqual(inUnit('30'), { quantity: '30' })
  assert.deepEqual(inUnit('soon'), { quantity: 'soon' }) // the service says what is wrong with it
  const blank = { accepted: '', due_on: '', reason: '' }
  assert.deepEqual(
    answered([
      { id: '1', answer: 'accepted', accepted: '30', due_on: '2026-03-24', reason: ' ' },
      { id: '1', answer: 'back-ordered', ...blank, accepted: '1BX' },
      { id: '2', answer: '', ...blank, reason: 'nobody knows' },
      { id: '3', answer: 'refused', ...blank, reason: 'out of range' },
    ]),
    [
      { id: '1', answer: 'accepted', accepted: '30', due_on: '2026-03-24' },
      { id: '1', answer: 'back-ordered', accepted: '1', accepted_unit: 'BX' },
      { id: '3', answer: 'refused', reason: 'out of range' },
    ],
  )
})

test('a value is found by its field and by its cell', () => {
  const places = new Places([
    { field: 'partner', place: { sheet: 'March', row: 4, column: 2 }, at: '' },
    { line: 2, field: 'item', place: { row: 7, column: 3, pointer: '/0/lines/1/item' }, at: '' },
    { line: 2, place: { row: 6 }, at: '' }, // the record of the line
  ])
  assert.equal(places.of(2, 'item').place.row, 7)
  assert.equal(places.of(1, 'item'), undefined)
  assert.deepEqual(
    places.at({ row: 7, column: 3 }).map((l) => l.field),
    ['item'],
  )
  assert.deepEqual(places.at({ row: 7, column: 3, pointer: '/0/lines/0/item' }), [])
  assert.deepEqual(places.at({ row: 6, column: 0 }), [])
  assert.equal(places.sheet, 'March')
  assert.equal(places.first, 4)
  assert.equal(spotOf({ pointer: '/a' }), undefined)
  assert.deepEqual(spotOf({ row: 3 }), { row: 3, column: 0, pointer: undefined })
})

test('only the blocks near what is seen are kept', async () => {
  const asked = []
  const w = rowWindow(async (from, limit) => {
    asked.push(from)
    return {
      rows: Array.from({ length: limit }, (_, i) => ({ row: from + i, cells: [String(from + i)] })),
      spans: [{ first: from, last: from + 1, seq: 1, outcome: 'loaded', sender_number: 'A' }],
      findings: [{ place: { row: from, column: 1 } }],
      more: from < 3000,
    }
  })
  await w.show(1)
  for (let i = 0; i < 6; i++) await w.after()
  assert.deepEqual(asked, [1, 201, 401, 601, 801, 1001, 1201])
  assert.equal(w.rows.value.length, 800)
  assert.equal(w.rows.value[0].row, 601)
  assert.deepEqual(
    [w.rows.value[0].first, w.rows.value[1].last, w.rows.value[2].seq, w.rows.value[0].label],
    [true, true, 0, 'A'],
  )
  assert.equal(w.rows.value[0].findings.get(1).length, 1)
  await w.before()
  assert.equal(w.rows.value[0].row, 401)
  await w.show(2990)
  assert.equal(w.rows.value[0].row, 2801)
})

test('a block that comes too late is not shown', async () => {
  const doors = []
  const w = rowWindow(
    (from) =>
      new Promise((done) =>
        doors.push(() => done({ rows: [{ row: from, cells: [] }], spans: [], findings: [], more: true })),
      ),
  )
  const first = w.show(1)
  const second = w.show(1100)
  doors[1]()
  await second.catch(() => undefined)
  doors[0]()
  await first
  assert.ok(
    w.rows.value.every((r) => r.row > 800),
    JSON.stringify(w.rows.value),
  )
})

const mapping = `koinos: mapping/1 # ours
name: plain
orders:
  kind: sales # ? no word says so
  group: {by: rowkind, kind: What, kinds: {H: header, L: line}, columns: [Order]} # ? by the look of it
header:
  sender_number: {from: Order, need: must} # ? the first column
lines:
  item: {from: Item}
`
const schema = {
  properties: {
    orders: {
      properties: {
        group: {
          properties: {
            by: {},
            columns: { 'x-with': ['key', 'opener', 'gap', 'rowkind'] },
            kinds: { 'x-with': ['rowkind'] },
            kind: { 'x-with': ['rowkind'] },
            when: { 'x-with': ['opener'] },
            path: { 'x-with': ['path'] },
            rows: { 'x-with': ['key'] },
            count: { 'x-with': ['count'] },
          },
        },
      },
    },
  },
}
const goes = (word, by) => goesWith(at(schema, ['orders', 'group']), word, by)

test('another grouping keeps what goes with it', () => {
  const group = (text) => /^ {2}group: (.*)$/m.exec(text)[1]
  assert.equal(
    group(edit.setGroup(mapping, { by: 'rowkind', columns: ['Order', 'Date'] }, goes)),
    '{by: rowkind, kind: What, kinds: {H: header, L: line}, columns: [Order, Date]} # ? by the look of it',
  )
  assert.equal(group(edit.setGroup(mapping, { by: 'key', columns: ['Order'] }, goes)), '{by: key, columns: [Order]}')
  assert.equal(
    group(edit.setGroup(mapping, { by: 'key', columns: ['Order'], rows: 'anywhere' }, goes)),
    '{by: key, columns: [Order], rows: anywhere}',
  )
  assert.equal(group(edit.setGroup(mapping, { by: 'count' }, goes)), '{by: count, count: 2}')
  const opener = mapping.replace(/group: .*/, `group: {by: opener, when: 'col("A") != ""', columns: [Order]}`)
  assert.equal(
    group(edit.setGroup(opener, { by: 'opener', columns: ['Date'] }, goes)),
    `{by: opener, when: 'col("A") != ""', columns: Date}`,
  )
  const path = mapping.replace(/group: .*/, 'group: {by: path, path: $.orders}')
  assert.equal(group(edit.setGroup(path, { by: 'path', columns: [] }, goes)), '{by: path, path: $.orders}')
})

test('a mapping that is edited keeps its comments and the rest of a binding', () => {
  const bound = edit.bind(mapping, 'header', 'sender_number', '@B')
  assert.match(bound, /# ours/)
  assert.match(bound, /sender_number: \{from: "?@B"?, need: must\}\n/)
  assert.equal(edit.guesses(mapping).get('header.sender_number'), 'the first column')
  assert.equal(edit.guesses(edit.confirm(mapping, 'header', 'sender_number')).has('header.sender_number'), false)
  assert.equal(edit.outline(edit.setKind(mapping, 'shipment')).kind, 'shipment')
  assert.equal(edit.outline(edit.setOf(mapping, 'purchase')).of, 'purchase')
  assert.deepEqual(edit.outline(edit.leaveOut(mapping, 'Price', true)).unused, ['Price'])
  assert.deepEqual(edit.outline(edit.leaveOut(edit.leaveOut(mapping, 'Price', true), 'Price', false)).unused, [])
  assert.equal(edit.bind('a: [', 'lines', 'item', 'X'), 'a: [') // no YAML: nothing is lost
})

test('undo and redo', async () => {
  const text = ref('a')
  const h = useHistory(text)
  for (const t of ['b', 'c']) {
    h.apply(t)
    await nextTick()
  }
  h.undo()
  await nextTick()
  assert.equal(text.value, 'b')
  h.undo()
  await nextTick()
  assert.equal(text.value, 'a')
  h.redo()
  await nextTick()
  assert.equal(text.value, 'b')
  h.apply('d')
  await nextTick()
  assert.equal(h.future.value.length, 0)
})

test('how a binding names what it takes', () => {
  const headings = [
    { column: 1, heading: 'Order' },
    { column: 2, heading: 'Date' },
    { column: 3, heading: 'Date' },
    { column: 4, heading: '' },
  ]
  assert.deepEqual(
    [1, 2, 3, 4, 5].map((c) => nameOf(headings, c)),
    ['Order', '@B', '@C', '@D', '@E'],
  )
  const lines = ['/orders/0/lines/0', '/orders/0/lines/1']
  for (const [pointer, level, path, of] of [
    ['/orders/0/lines/1/sku', 'lines', 'sku', ''],
    ['/orders/0/number', 'header', 'number', ''],
    ['/orders/0/number', 'lines', 'number', 'order'],
    ['/batch', 'header', 'batch', 'document'],
    ['/orders/0/ship/to', 'header', '$.ship.to', ''],
    ['/orders/0/a~1b', 'header', "$['a/b']", ''],
    ['/orders/0/refs/1', 'header', '$.refs[1]', ''],
  ])
    assert.deepEqual(pathUnder(pointer, level, '/orders/0', lines), { path, of }, pointer)
})

test('decimals that are written as text', async () => {
  const { minus, plus } = await import('../src/orders/decimal.ts')
  assert.equal(minus('10', '2.50', undefined), '7.5')
  assert.equal(minus('1', '2'), '0')
  assert.equal(minus('0.3', '0.1', '0.2'), '0')
  assert.equal(plus('0.1', '0.2', '-0.05'), '0.25')
  assert.equal(plus('1', '-2.50'), '-1.5')
  assert.equal(plus('9007199254740993', '1'), '9007199254740994')
  assert.equal(plus(), '0')
})

test('a list is sorted by what its values are worth, what is blank last', async () => {
  const { compared } = await import('../src/paging.ts')
  const sorted = (all, down) => [...all].sort((a, b) => compared(a, b, down))
  assert.deepEqual(sorted(['412.4', '99', undefined, '412.37', '-3'], false), [
    '-3',
    '99',
    '412.37',
    '412.4',
    undefined,
  ])
  assert.deepEqual(sorted(['412.4', '', '99'], true), ['412.4', '99', ''])
  assert.deepEqual(sorted(['SO-10', 'so-9', 'SO-100'], false), ['so-9', 'SO-10', 'SO-100'])
  assert.deepEqual(sorted([3, 20, 0, null], true), [20, 3, 0, null])
})

test('what the console links to in the documentation is there', async () => {
  const { readdirSync, readFileSync } = await import('node:fs')
  const { page } = await import('../docs.mjs')
  const root = new URL('..', import.meta.url)
  const ids = new Map()
  for (const f of readdirSync(new URL('../docs/', root), { recursive: true }).filter((f) => f.endsWith('.md'))) {
    const name = f.slice(0, -3)
    const { sections } = page(name, readFileSync(new URL(`../docs/${f}`, root), 'utf8'))
    ids.set(name, new Set(sections.flatMap((s) => [s.id, ...[...s.html.matchAll(/ id="([^"]+)"/g)].map((m) => m[1])])))
  }
  const { header, lines } = JSON.parse(readFileSync(new URL('../docs/mapping.schema.json', root), 'utf8')).properties
  const fields = [header, lines].flatMap((level) => Object.keys(level.properties)).map(explained)
  assert.ok(fields.length > 40, fields.length)
  for (const field of [
    ...fields,
    ...['custom.hull_no', 'charge.freight', 'ship_to.city'].map(explained),
    'default',
    'list',
    'crosswalk',
    'dates',
    'expr',
    'need',
  ]) {
    assert.ok(ids.get('mapping').has(field), `the field or word ${field} is not explained in a table`)
  }
  let links = 0
  for (const f of readdirSync(new URL('src/', root), { recursive: true }).filter((f) => f.endsWith('.vue'))) {
    for (const [, name, id] of readFileSync(new URL(`src/${f}`, root), 'utf8').matchAll(
      /["`]\/docs\/([a-z0-9/-]+)(?:#([a-z0-9_-]+))?["`]/g,
    )) {
      links++
      assert.ok(ids.has(name) && (!id || ids.get(name).has(id)), `${f}: /docs/${name}#${id}`)
    }
  }
  assert.ok(links >= 10, `${links} links`)
})

test('numbers that are pasted are taken apart, each once', () => {
  assert.deepEqual(numbersIn(' SO-1\r\nSO-2, A 7;SO-1\t\n,,'), ['SO-1', 'SO-2', 'A 7'])
  assert.deepEqual(numbersIn(' \n'), [])
})

test('a table of orders is kept with its orders, and is the same again', () => {
  const usual = { every: ['number', 'lines.item'], order: ['number', 'total'] }
  const table = { layout: 'order', columns: ['total', 'custom.hull'], open: true, sums: true, for: 'read' }
  const asked = queryOfTable(table, usual.order)
  assert.deepEqual(asked, { layout: 'order', column: 'total,custom.hull', open: 'true', sums: 'true' })
  const choice = choiceOf({ partner: 'PELLOW', number: 'SO-1' }, asked)
  assert.equal(choice, 'layout=order&column=total%2Ccustom.hull&open=true&sums=true&partner=PELLOW')
  assert.deepEqual(tableOf(choice, usual), table)
  assert.deepEqual(tableOf('partner=PELLOW', usual), {
    layout: 'every',
    columns: usual.every,
    open: false,
    sums: false,
    for: 'read',
  })
  assert.deepEqual(
    queryOfTable({ ...table, columns: usual.order, open: false, sums: false, for: 'change' }, usual.order, 'sales'),
    {
      layout: 'order',
      for: 'change',
      kind: 'sales',
    },
  )
})

test('a table to be filled in is of the orders that its purpose leaves', () => {
  assert.deepEqual(sidesOf('shipment', ''), ['sales'])
  assert.deepEqual(sidesOf('receipt', 'sales'), ['purchase'])
  assert.deepEqual(sidesOf('change', 'purchase'), ['purchase'])
  assert.deepEqual(sidesOf('invoice', ''), ['sales', 'purchase'])
})

test('what a set asks for is told by the lines that ask for it', () => {
  const f = (line, field, message, code = 'change_asked') => ({
    code,
    line,
    field,
    message,
    at: `POC #${line}`,
    place: { row: line + 4 },
  })
  const asked = askedOf({
    findings: [
      f(2, 'unit_price', 'Asked for: line 2 unit_price was "1.3", is "1.4".'),
      f(7, 'number', 'No line 7.', 'line_unknown'),
      f(undefined, 'requested_delivery_on', 'Asked for: requested_delivery_on was blank, is "2026-04-10".'),
      f(2, 'quantity', 'Asked for: line 2 quantity was "3", is "4".'),
    ],
  })
  assert.deepEqual(
    asked.map((l) => [l.line, l.name, l.changes.map((c) => c.what)]),
    [
      [0, 'The order as a whole', ['requested delivery on was blank, is "2026-04-10"']],
      [2, 'Line 2 of the set', ['line 2 unit price was "1.3", is "1.4"', 'line 2 quantity was "3", is "4"']],
    ],
  )
  for (const [taken, said] of [
    [[], 'ann refused all that it asks for.'],
    [[0], 'ann took what it asks for in the header.'],
    [[0, 3], 'ann took what it asks for in the header and line 3.'],
    [[1, 3], 'ann took what it asks for in lines 1, 3.'],
  ])
    assert.equal(decidedOf({ decided: { taken, by: 'ann', at: '' } }), said)
})

test('an interchange says who has rejected it', () => {
  for (const [direction, state, word] of [
    ['in', 'rejected', 'rejected by us'],
    ['out', 'rejected', 'rejected by them'],
    ['out', 'partly', 'partly rejected by them'],
    ['in', 'held', 'held'],
  ])
    assert.equal(interchangeWord({ direction, state }), word)
})

test('what is done once is sent again under its key until it is answered', async () => {
  for (const [method, path, is] of [
    ['POST', '/api/v1/orders', true],
    ['POST', '/api/v1/orders/7/shipments', true],
    ['POST', '/api/v1/partners/PELLOW/send', true],
    ['POST', '/api/v1/loads', true],
    ['POST', '/api/v1/documents/ab/draft', false],
    ['POST', '/api/v1/partners', false],
    ['GET', '/api/v1/orders', false],
  ])
    assert.equal(isDoneOnce(method, `http://127.0.0.1${path}`), is, path)
  const request = (headers) => new Request('http://127.0.0.1/api/v1/orders', { method: 'POST', body: '{}', headers })
  const answers = [
    () => Promise.reject(new TypeError('the connection is gone')),
    () => Promise.resolve(new Response('{"code":"key_in_use"}', { status: 409 })),
    () => Promise.resolve(new Response('{"code":"changed_meanwhile"}', { status: 409 })),
  ]
  const seen = []
  const send = async (r) => (
    seen.push(`${r.headers.get('Idempotency-Key')} ${await r.text()}`),
    answers[seen.length - 1]()
  )
  assert.equal((await once(request({ 'Idempotency-Key': 'k' }), send)).status, 409)
  assert.deepEqual(seen, ['k {}', 'k {}', 'k {}'])
  seen.length = 0
  await assert.rejects(once(request({}), send), TypeError)
  assert.deepEqual(seen, ['null {}'])
})
