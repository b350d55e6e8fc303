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
  partner: string
}

const unfinished = 'open,confirmed,partial'
export const kinds = [
  { label: 'Sales', value: 'sales' },
  { label: 'Purchases', value: 'purchase' },
]
const statuses = ['overdue', 'draft', 'open', 'confirmed', 'partial', 'complete', 'cancelled']
export const states = [{ label: 'not finished', value: unfinished }, ...statuses.map((s) => ({ label: s, value: s }))]

const blank = (): Which => ({ text: '', kind: '', status: '', from: '', to: '', changed: '', load: '', partner: '' })

// midnight is when a day begins for the reader.
const midnight = (day: string) => new Date(`${day}T00:00:00`)

/** The names that a filter has in a call. */
export const filters = ['text', 'kind', 'status', 'overdue', 'from', 'to', 'load', 'partner', 'changed_since'] as const

/** queryOf is a filter as the calls of the service have it. */
export function queryOf(w: Which): Record<string, string> {
  const overdue = w.status === 'overdue'
  const since = w.changed ? midnight(w.changed) : undefined
  const all: Record<(typeof filters)[number], string> = {
    ...{ text: w.text, kind: w.kind, from: w.from, to: w.to, load: w.load, partner: w.partner },
    status: overdue ? '' : w.status,
    overdue: overdue ? 'true' : '',
    changed_since: since && !Number.isNaN(+since) ? since.toISOString() : '',
  }
  return Object.fromEntries(Object.entries(all).filter(([, v]) => v !== ''))
}

/** whichOf reads the filter of a call. */
export function whichOf(choice: string): Which {
  const q = Object.fromEntries(new URLSearchParams(choice))
  const which = blank()
  for (const name of Object.keys(which) as (keyof Which)[]) which[name] = q[name] ?? ''
  if (q.overdue === 'true') which.status = 'overdue'
  if (q.changed_since) which.changed = new Date(q.changed_since).toLocaleDateString('sv') // yyyy-mm-dd
  return which
}

/** numbersIn are the numbers of orders in a text that was pasted, each once, in their order. */
export const numbersIn = (text: string): string[] => [
  ...new Set(
    text
      .split(/[,;\t\r\n]+/)
      .map((n) => n.trim())
      .filter(Boolean),
  ),
]

/** useWhich keeps a filter in the page's address, so that a link or the way back finds it again. */
export function useWhich() {
  const route = useRoute()
  const router = useRouter()
  const names = Object.keys(blank()) as (keyof Which)[]
  const read = () => Object.fromEntries(names.map((n) => [n, String(route.query[n] ?? '')])) as unknown as Which
  const which = reactive(read())
  watch(
    which,
    () => void router.replace({ query: Object.fromEntries(Object.entries(which).filter(([, v]) => v !== '')) }),
  )
  watch(
    () => route.query,
    () => Object.assign(which, read()),
  )
  const narrowed = computed(() => names.some((n) => which[n] !== ''))
  return { which, narrowed, clear: () => Object.assign(which, blank()) }
}
