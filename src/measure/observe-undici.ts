import { subscribe, unsubscribe } from 'node:diagnostics_channel'
import { ObservedCall, type Observing } from './observed-call.js'

/** A request as undici reports it: the client behind the global `fetch`, and behind the package of that name. */
interface UndiciRequest {
  readonly origin?: string | URL
  readonly path: string
  readonly method: string
  readonly headers?: string | readonly string[]
  onBodySent?(chunk: unknown): unknown
  onData?(chunk: unknown): unknown
  onResponseData?(chunk: unknown): unknown
}

/** Follows all calls of undici by its diagnostics channels; returns an unsubscribe function. Nothing of them is changed. */
export function observeUndici(observing: Observing): () => void {
  const calls = new WeakMap<object, ObservedCall>()
  const begun = new Set<ObservedCall>()
  const ended = (request: object, isWhole: boolean) => {
    const call = calls.get(request)
    if (!call) return
    begun.delete(call)
    call.over(isWhole)
  }
  const handlers: Record<string, (message: never) => void> = {
    'undici:request:create': ({ request }: { request: UndiciRequest }) => {
      const call = new ObservedCall(observing)
      call.asks(request.method, `${String(request.origin ?? '').replace(/\/$/, '')}${request.path}`, fieldsOf(request.headers))
      calls.set(request, call)
      begun.add(call)
      follow(request, 'onBodySent', (chunk) => call.sends(chunk))
      follow(request, typeof request.onData === 'function' ? 'onData' : 'onResponseData', (chunk) => call.brings(chunk))
    },
    'undici:request:headers': ({ request, response }: { request: UndiciRequest; response: { statusCode: number } }) =>
      calls.get(request)?.answers(response.statusCode),
    'undici:request:trailers': ({ request }: { request: UndiciRequest }) => ended(request, true),
    'undici:request:error': ({ request }: { request: UndiciRequest }) => ended(request, false),
  }
  for (const [name, handler] of Object.entries(handlers)) subscribe(name, handler as (message: unknown) => void)
  return () => {
    for (const [name, handler] of Object.entries(handlers)) unsubscribe(name, handler as (message: unknown) => void)
    for (const call of begun) call.over(false)
  }
}

/** Looks at what a method of a request is called with. */
function follow(request: UndiciRequest, name: 'onBodySent' | 'onData' | 'onResponseData', look: (chunk: unknown) => void): void {
  const given = request[name]
  if (typeof given !== 'function') return
  request[name] = function (this: UndiciRequest, chunk) {
    look(chunk)
    return given.call(this, chunk)
  }
}

function fieldsOf(headers: string | readonly string[] | undefined): [string, string][] {
  const flat = typeof headers === 'string' ? headers.split(/\r\n|: /) : (headers ?? [])
  return Array.from({ length: Math.floor(flat.length / 2) }, (_, i) => [String(flat[2 * i]), String(flat[2 * i + 1])])
}
