/** What is done once: orders and what is said of them, loads, and what goes to partners and systems. */
const doneOnce =
  /^\/api\/v1\/(orders|loads|runs|held|interchanges|partners\/[^/]+\/send|systems\/[^/]+\/(pulls|pushes)|syncs\/[^/]+\/(runs|checks)|subscriptions\/[^/]+\/resend)(\/|$)/

/** isDoneOnce reports whether a request must not be done a second time when it is sent again. */
export const isDoneOnce = (method: string, url: string) =>
  method === 'POST' && doneOnce.test(new URL(url, 'http://x').pathname)

// Not every page may have randomUUID: one that came by plain HTTP from another machine has not.
export const key = () =>
  Array.from(crypto.getRandomValues(new Uint8Array(16)), (b) => b.toString(16).padStart(2, '0')).join('')

/** Until when a request whose answer was lost is sent again, and how long it waits before. In milliseconds. */
const patience = 6000
const breath = 400

/**
 * once sends a request. If it has an Idempotency-Key and its answer is lost, or it is still being answered, it is sent
 * again: the service does its work once.
 */
export async function once(request: Request, send: (r: Request) => Promise<Response> = fetch): Promise<Response> {
  if (!request.headers.has('Idempotency-Key')) return send(request)
  for (const end = Date.now() + patience; ;) {
    const over = () => request.signal.aborted || Date.now() > end
    try {
      const res = await send(request.clone())
      if (res.status !== 409 || over() || (await res.clone().json()).code !== 'key_in_use') return res
    } catch (e) {
      if (over()) throw e
    }
    await new Promise((r) => setTimeout(r, breath))
  }
}
