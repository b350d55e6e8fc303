import type { Order } from '../api/client'

// What records about stored orders say besides what an order says: the
// fields that a mapping binds, by the members in which a statement keeps them.

type Statement = NonNullable<Order['statement']>
type LineStatement = NonNullable<NonNullable<Order['lines']>[number]['statement']>

const numbers: Partial<Record<Statement['kind'], string>> = {
  shipment: 'shipment',
  receipt: 'receipt',
  return: 'return',
  invoice: 'invoice',
  change: 'change_number',
}
const days: Partial<Record<Statement['kind'], string>> = {
  shipment: 'shipped_on',
  receipt: 'received_on',
  return: 'returned_on',
  invoice: 'invoiced_on',
  change: 'changed_on',
  answer: 'answered_on',
}
const titles: Record<Statement['kind'], string> = {
  shipment: 'Shipment of a',
  receipt: 'Receipt of a',
  return: 'Return of a',
  invoice: 'Invoice of a',
  change: 'Change of a',
  answer: 'Answer to a',
}

/** statementTitle says what a record is that speaks of an order. */
export const statementTitle = (s: Statement, order: string) => `${titles[s.kind]} ${order.toLowerCase()}`

/** statedFields gives the fields of a statement with their values, the filled ones. */
export function statedFields(s: Statement): [field: string, value: string][] {
  const all: [string | undefined, string | undefined][] = [
    [numbers[s.kind], s.number],
    [days[s.kind], s.on],
    ['answer', s.code],
    ['shipped_at', s.at],
    ['told_on', s.told_on],
    ['due_on', s.due_on],
    ['carrier', s.carrier],
    ['tracking', s.tracking],
    ['bill_of_lading', s.bill_of_lading],
    ['packages', s.packages],
    ['weight', s.weight],
    ['weight_unit', s.weight_unit],
    ['billed_shipment', s.shipment],
    ['charges_billed', s.charges_billed],
    ['quantities', s.quantities],
    ['reverses', s.reverses],
    ['reason', s.reason],
  ]
  return all.filter((one): one is [string, string] => !!one[0] && !!one[1])
}

/** statedOfLine gives the fields of what is said of a line, the filled ones. */
export function statedOfLine(kind: Statement['kind'], l: LineStatement | undefined): [field: string, value: string][] {
  if (!l) return []
  const all: [string, string | undefined][] = [
    [kind === 'answer' ? 'answer' : 'change', l.code],
    ['accepted', l.accepted],
    ['accepted_unit', l.accepted_unit],
    ['due_on', l.due_on],
    ['offered_item', l.offered_item],
    ['lot', l.lot],
    ['package', l.package],
    ['package_in', l.package_in],
    ['shipped_to_date', l.to_date],
    ['price_for', l.price_for],
    ['rest', l.rest],
    ['reason', l.reason],
  ]
  if (kind === 'answer') all.splice(1, 0, ['change', l.asked])
  return all.filter((one): one is [string, string] => !!one[1])
}
