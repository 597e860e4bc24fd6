import type { Bypass } from '../../core/decide/decide.js'
import { type CacheOption, type RequestDirectives, requestDirectives } from '../../core/http/request-directives.js'
import type { Fetch } from './http-upstream.js'

type Input = Parameters<Fetch>[0]
type Init = Parameters<Fetch>[1]

/** The bytes of a request's body, and the call that sends them. A given `Request` keeps its own body unread. */
export async function bytesOf(input: Input, init: Init) {
  const request = new Request(input instanceof Request ? input.clone() : input, init)
  const { url, method, headers } = request
  const bytes = new Uint8Array(await request.arrayBuffer())
  const resend = (signal: AbortSignal) => [url, { ...init, method, headers, body: bytes, signal }] as const
  return { bytes, headers, resend }
}

/** Options of fetch that Node's own types leave out. */
interface FetchOptions {
  readonly cache?: CacheOption
  readonly redirect?: 'follow' | 'manual' | 'error'
}

function optionsOf(input: Input, init: Init): FetchOptions {
  const { cache, redirect } = { ...(init as FetchOptions | undefined) }
  const request = input instanceof Request ? (input as FetchOptions) : undefined
  const cacheOfBoth = cache ?? request?.cache
  const redirectOfBoth = redirect ?? request?.redirect
  return { ...(cacheOfBoth && { cache: cacheOfBoth }), ...(redirectOfBoth && { redirect: redirectOfBoth }) }
}

/** What a request wishes of stored answers, by its fields and by the `cache` option of fetch. */
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
