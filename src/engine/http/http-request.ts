import type { Bypass } from '../../core/decide/decide.js'
import { type CacheOption, type RequestDirectives, requestDirectives } from '../../core/http/request-directives.js'
import type { Fetch } from './http-upstream.js'

export type Input = Parameters<Fetch>[0]
export type Init = Parameters<Fetch>[1]

/** What `fetch` was called with. A `Request` of another copy of the fetch classes stands as one of this runtime's. */
export function asCalled(input: Input, init: Init): [input: Input, init: Init] {
  if (typeof input === 'string' || input instanceof URL || input instanceof Request || !isForeignRequest(input)) return [input, init]
  const { url, method, headers, body, redirect, integrity, keepalive, signal, cache, credentials, referrer } = input as Request & Options
  const known = { method, headers: [...(headers as unknown as Iterable<[string, string]>)], redirect, integrity, keepalive, signal }
  const options = { ...known, cache, credentials, referrer, ...(body && { body, duplex: 'half' }) }
  return [url, { ...(Object.fromEntries(Object.entries(options).filter(([, value]) => value !== undefined)) as Init), ...init }]
}

function isForeignRequest(input: unknown): boolean {
  const { url, method, arrayBuffer } = (typeof input === 'object' && input !== null ? input : {}) as Partial<Request>
  return typeof url === 'string' && typeof method === 'string' && typeof arrayBuffer === 'function'
}

/** The bytes of a request's body, and the call that sends it as it was given. A given `Request` keeps its own body unread. */
export async function bytesOf(input: Input, init: Init) {
  const { signal: _, ...rest } = init ?? {}
  const request = new Request(input instanceof Request ? input.clone() : input, { ...rest, signal: null })
  const { method, headers } = request
  const bytes = new Uint8Array(await request.arrayBuffer())
  const body = typeof init?.body === 'string' ? init.body : bytes
  const sent = request.body === null && bytes.byteLength === 0 ? {} : { body }
  const resend = (signal: AbortSignal) => [input, { ...init, method, headers, ...sent, signal } as RequestInit] as const
  return { bytes, headers, resend }
}

/** Options of fetch that Node's own types leave out. */
interface Options {
  readonly cache?: CacheOption
  readonly redirect?: 'follow' | 'manual' | 'error'
  readonly credentials?: string
  readonly referrer?: string
}

function optionsOf(input: Input, init: Init): Pick<Options, 'cache' | 'redirect'> {
  const { cache, redirect } = { ...(init as Options | undefined) }
  const request = input instanceof Request ? (input as Options) : undefined
  const cacheOfBoth = cache ?? request?.cache
  const redirectOfBoth = redirect ?? request?.redirect
  return { ...(cacheOfBoth && { cache: cacheOfBoth }), ...(redirectOfBoth && { redirect: redirectOfBoth }) }
}

/** What a request asks of stored answers, by its fields and by the `cache` option of fetch. */
export function requestDirectivesOf(headers: Headers, input: Input, init: Init): RequestDirectives {
  return requestDirectives(headers.get('cache-control'), headers.get('pragma'), optionsOf(input, init).cache)
}

/** What in a request keeps stored answers from it, whatever they are. */
export function bypassOf(excepted: boolean, directives: RequestDirectives): Bypass | undefined {
  if (excepted) return 'request-excepted'
  return directives.noStore ? 'no-store-asked' : undefined
}

/** How redirects are met, where that is not by following them: such requests have answers of their own. */
export function redirectOf(input: Input, init: Init): 'manual' | 'error' | undefined {
  const { redirect } = optionsOf(input, init)
  return redirect === 'follow' ? undefined : redirect
}

/** In a browser a condition makes a cross-origin request ask for leave first, which could fail where the plain request would not. */
export function mayCarryConditions(url: URL): boolean {
  const { location } = globalThis as { location?: { origin: string } }
  return location === undefined || location.origin === url.origin
}
