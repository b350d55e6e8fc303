import { computed, reactive, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

/** What a list of orders is narrowed to. Blank is that it is not narrowed by this. */
export interface Which {
  text: string
  kind: string
  /** One status, several with commas between, or overdue. */
  status: string
  from: string
  to: string
  changed: string
  load: string
}

const unfinished = 'open,confirmed,partial'
export const kinds = [{ label: 'Sales', value: 'sales' }, { label: 'Purchases', value: 'purchase' }]
export const states = [{ label: 'not finished', value: unfinished }, { label: 'overdue', value: 'overdue' }, ...['draft', 'open', 'confirmed', 'partial', 'complete', 'cancelled'].map((s) => ({ label: s, value: s }))]

const blank = (): Which => ({ text: '', kind: '', status: '', from: '', to: '', changed: '', load: '' })

// midnight is when a day begins for the reader.
const midnight = (day: string) => new Date(`${day}T00:00:00`)

/** queryOf is a filter as the calls of the service have it. */
export function queryOf(w: Which): Record<string, string> {
  const overdue = w.status === 'overdue'
  const all = { text: w.text, kind: w.kind, status: overdue ? '' : w.status, overdue: overdue ? 'true' : '', from: w.from, to: w.to, load: w.load, changed_since: w.changed && !Number.isNaN(+midnight(w.changed)) ? midnight(w.changed).toISOString() : '' }
  return Object.fromEntries(Object.entries(all).filter(([, v]) => v !== ''))
}

/** whichOf reads a filter of a call; what a page cannot show is named. */
export function whichOf(choice: string): { which: Which; rest: string[] } {
  const q = Object.fromEntries(new URLSearchParams(choice))
  const which = { ...blank(), text: q.text ?? '', kind: q.kind ?? '', status: q.overdue === 'true' ? 'overdue' : (q.status ?? ''), from: q.from ?? '', to: q.to ?? '', load: q.load ?? '' }
  if (q.changed_since) which.changed = new Date(q.changed_since).toLocaleDateString('sv')
  return { which, rest: q.partner ? [`partner ${q.partner}`] : [] }
}

/** useWhich keeps a filter in the page's address, so that a link or the way back finds it again. */
export function useWhich() {
  const route = useRoute()
  const router = useRouter()
  const names = Object.keys(blank()) as (keyof Which)[]
  const read = () => Object.fromEntries(names.map((n) => [n, String(route.query[n] ?? '')])) as unknown as Which
  const which = reactive(read())
  watch(which, () => void router.replace({ query: Object.fromEntries(Object.entries(which).filter(([, v]) => v !== '')) }))
  watch(() => route.query, () => Object.assign(which, read()))
  const narrowed = computed(() => names.some((n) => which[n] !== ''))
  return { which, narrowed, clear: () => Object.assign(which, blank()) }
}
