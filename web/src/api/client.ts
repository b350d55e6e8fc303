import createClient from 'openapi-fetch'
import { ref } from 'vue'

import { isDoneOnce, key, once } from './once'
import type { components, paths } from './schema'

type S = components['schemas']
export type Load = S['Load']
export type NewDraft = S['NewDraft']
export type LoadReport = S['LoadReport']
export type Reason = S['Reason']
export type Finding = S['Finding']
export type Order = S['Order']
export type Charge = S['Charge']
export type ScheduledDelivery = S['ScheduledDelivery']
export type OrderSummary = S['OrderSummary']
export type Posted = S['Posted']
export type StoredOrder = S['StoredOrder']
export type Movement = S['Movement']
export type Invoice = S['Invoice']
export type Located = S['Located']
export type Place = S['Place']
export type Outcome = S['OrderOutcome']
export type RowsOutcome = S['RowsOutcome']
export type Preview = S['Preview']
export type Mapping = S['MappingDetail']
export type Field = S['Field']
export type Proposal = S['Proposal']
export type Act = S['Act']
export type Options = Omit<S['NewLoad'], 'document' | 'mapping' | 'mapping_text' | 'version'>
export type Undone = S['Undone']
export type Renamed = S['Renamed']
export type Comparison = S['Comparison']
export type Why = S['Why']
export type Interchange = S['Interchange']
export type SetRecord = S['SetRecord']
export type Item = S['Item']
export type System = S['System']
export type Sync = S['Sync']
export type SyncCheck = S['SyncCheck']
export type PushStep = S['PushStep']
export type HeldFor = S['HeldFor']
export type Pull = S['Pull']
export type Arrival = S['Arrival']
export type Tried = S['Tried']
export type Delivery = S['Delivery']
export type Subscription = S['Subscription']
export type Problem = S['Problem']

const tokenKey = 'koinos.token'
export const token = ref(sessionStorage.getItem(tokenKey) ?? '')
/** Set when the service asks for an access token; App shows the sign-in dialog. */
export const loginNeeded = ref('')

export function signIn(value: string) {
  token.value = value.trim()
  sessionStorage.setItem(tokenKey, token.value)
  loginNeeded.value = ''
}

function headers(): Record<string, string> {
  return token.value ? { Authorization: `Bearer ${token.value}` } : {}
}

export const api = createClient<paths>({ baseUrl: '/', fetch: (r) => once(r) })
api.use({
  onRequest({ request }) {
    for (const [k, v] of Object.entries(headers())) request.headers.set(k, v)
    if (isDoneOnce(request.method, request.url)) request.headers.set('Idempotency-Key', key())
    return request
  },
})

/** ProblemError is a problem (RFC 9457) as an exception. */
export class ProblemError extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail || problem.title)
  }
}

const away: Problem = {
  type: 'about:blank',
  title: 'The service does not answer',
  status: 0,
  code: 'away',
  detail: 'Is it running? Start it with koinos serve, then try again.',
}

function thrown(problem: Problem): ProblemError {
  if (problem.code === 'login_needed') loginNeeded.value = problem.detail ?? problem.title
  return new ProblemError(problem)
}

/** data gives an answer's body, or throws the problem. */
export async function data<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let res
  try {
    res = await call
  } catch {
    throw thrown(away)
  }
  if (res.error !== undefined || !res.response.ok)
    throw thrown(
      (res.error as Problem | undefined)?.code
        ? (res.error as Problem)
        : { ...away, title: `The service answered ${res.response.status}` },
    )
  return res.data as T
}

async function plainFetch(path: string, init?: RequestInit): Promise<Response> {
  let res
  try {
    res = await fetch(path, { ...init, headers: { ...headers(), ...init?.headers } })
  } catch (e) {
    if (init?.signal?.aborted) throw e
    throw thrown(away)
  }
  if (!res.ok) {
    const problem = await res.json().catch(() => ({ ...away, title: `The service answered ${res.status}` }))
    throw thrown(problem)
  }
  return res
}

/** sendDocument sends a file as it is. */
export async function sendDocument(file: File): Promise<S['Received']> {
  const res = await plainFetch(`/api/v1/documents?name=${encodeURIComponent(file.name)}`, {
    method: 'POST',
    body: file,
    headers: { 'Content-Type': 'application/octet-stream' },
  })
  return res.json()
}

/** sendText sends text that is not JSON, such as a mapping. */
export async function sendText<T>(path: string, method: string, kind: string, body: BodyInit): Promise<T> {
  const res = await plainFetch(path, { method, body, headers: { 'Content-Type': kind } })
  return res.json()
}

/** download saves a file that may need the access token, and returns the headers of the answer. */
export async function download(path: string): Promise<Headers> {
  const res = await plainFetch(path)
  const name = /filename="([^"]+)"/.exec(res.headers.get('Content-Disposition') ?? '')?.[1] ?? 'report'
  saveBlob(name, await res.blob())
  return res.headers
}

/** saveText saves a text as a file. */
export const saveText = (name: string, text: string) => saveBlob(name, new Blob([text], { type: 'text/plain' }))

function saveBlob(name: string, content: Blob) {
  const link = document.createElement('a')
  link.href = URL.createObjectURL(content)
  link.download = name
  link.click()
  URL.revokeObjectURL(link.href)
}

/** watchLoad follows a load's server-sent events until it has ended. */
export async function watchLoad(id: number, each: (l: Load) => void, signal: AbortSignal) {
  const res = await plainFetch(`/api/v1/loads/${id}/progress`, { signal })
  const reader = res.body!.pipeThrough(new TextDecoderStream()).getReader()
  let rest = ''
  for (;;) {
    const { value, done } = await reader.read()
    if (done) return
    rest += value
    const events = rest.split('\n\n')
    rest = events.pop() ?? ''
    for (const event of events) {
      const line = event.split('\n').find((l) => l.startsWith('data: '))
      if (line) each(JSON.parse(line.slice(6)))
    }
  }
}
