import type { Charge, ScheduledDelivery, Interchange, Load, Sync, System } from './api/client'

/** columnName gives the letters of a column counted from 1. */
export function columnName(n: number): string {
  let s = ''
  for (; n > 0; n = Math.floor((n - 1) / 26)) s = String.fromCharCode(65 + ((n - 1) % 26)) + s
  return s
}

export function count(n: number, word: string): string {
  return `${n.toLocaleString('en')} ${word}${n === 1 ? '' : 's'}`
}

export function when(iso: string): string {
  const d = new Date(iso)
  const p = (n: number) => String(n).padStart(2, '0')
  return `${d.getFullYear()}-${p(d.getMonth() + 1)}-${p(d.getDate())} ${p(d.getHours())}:${p(d.getMinutes())}`
}

export function size(bytes: number): string {
  if (bytes < 1024) return `${bytes} B`
  return bytes < 1 << 20 ? `${(bytes / 1024).toFixed(1)} KiB` : `${(bytes / (1 << 20)).toFixed(1)} MiB`
}

/** money adds thin spaces between thousands without touching the digits. */
export function money(s: string | undefined): string {
  if (!s) return ''
  const [whole = '', fraction] = s.split('.')
  const grouped = whole.replace(/\B(?=(\d{3})+(?!\d))/g, '\u202f')
  return fraction === undefined ? grouped : `${grouped}.${fraction}`
}

/** fieldLabel is a field's name where it stands alone: Ordered on. */
export const fieldLabel = (field: string): string => capital(fieldName(field).trim())

/** capital is a text with which a line or a sentence begins. */
export const capital = (text: string): string => text.charAt(0).toUpperCase() + text.slice(1)

/** fieldName gives the words of a field's name: ship_to.code is "ship-to code". */
export function fieldName(field: string): string {
  return field
    .replace(/^(custom|reference|(charge|allowance)(_percent)?)\./, '')
    .replace('_to.', '-to ')
    .replace(/[._]/g, ' ')
}

/** chargeField is the name of a charge's field: allowance_percent.discount. */
export const chargeField = (c: Charge): string =>
  `${c.allowance ? 'allowance' : 'charge'}${c.percent ? '_percent' : ''}.${c.code}`

/** deliveriesText says the deliveries of a line as the commands and sheets do. */
export function deliveriesText(all: ScheduledDelivery[] | null | undefined): string {
  const one = (d: ScheduledDelivery) => {
    const place = d.location && /[;,"]/.test(d.location) ? JSON.stringify(d.location) : d.location
    return [
      d.quantity,
      d.unit && ` ${d.unit}`,
      place && ` to ${place}`,
      d.requested_ship_on && `, leaves ${d.requested_ship_on}`,
      d.requested_delivery_on && `, arrives ${d.requested_delivery_on}`,
    ].join('')
  }
  return (all ?? []).map(one).join('; ')
}

export function loadWord(l: Load): string {
  if (l.status !== 'done') return l.status
  if (l.undone > 0) return 'taken back'
  if (l.refused + l.withheld > 0) return 'some refused'
  if (l.held > 0) return 'some held'
  return l.dry_run ? 'all ready' : 'all in'
}

/** interchangeWord says an interchange's state as people do. */
export function interchangeWord(i: Pick<Interchange, 'state' | 'overdue' | 'direction'>): string {
  if (i.overdue) return 'not acknowledged in time'
  const by = i.direction === 'in' ? 'by us' : 'by them'
  return (
    {
      sent: 'not yet acknowledged',
      accepted: 'acknowledged',
      noted: 'errors noted',
      partly: `partly rejected ${by}`,
      rejected: `rejected ${by}`,
      duplicate: 'came before',
      doubtful: 'doubtful',
      unknown: 'from an unknown sender',
      ready: 'waits to leave',
    }[i.state as string] ?? i.state
  )
}

/** systemWord says how a system does. */
/** How a sync does, in a word or two. */
export function syncWord(y: Sync): string {
  if (y.state.state === 'paused') return 'paused'
  if (y.state.away?.length) return 'away'
  if (y.state.unanswered) return 'not answered'
  if (!y.state.settled) return 'running'
  return y.asked ? 'idle, works when asked' : 'idle'
}

export const systemWord = (y: System) =>
  ({ yes: 'answers', no: 'does not answer', unknown: 'not called yet' })[y.state.answers]

/** active reports whether a load has more to come by itself. */
export const active = (l: Load) => l.status === 'running' || l.status === 'waiting'

/** minutes gives a stretch of seconds as people say it: 25 min, 3 h 10 min. */
export function minutes(seconds: number): string {
  const m = Math.round(seconds / 60)
  return m < 60 ? `${m} min` : `${Math.floor(m / 60).toLocaleString('en')} h ${m % 60} min`
}

/** span gives a short stretch of seconds: 40 s, 3 min. */
export const span = (seconds: number) => (seconds < 90 ? `${seconds} s` : minutes(seconds))
