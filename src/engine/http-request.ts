import type { SpecialRequest } from '../core/decide/decide.js'
import type { Fetch } from './http-upstream.js'

/** The bytes of a request's body, and the call that sends them. A given `Request` keeps its own body unread. */
export async function bytesOf(input: Parameters<Fetch>[0], init: Parameters<Fetch>[1]) {
  const request = new Request(input instanceof Request ? input.clone() : input, init)
  const { url, method, headers } = request
  const bytes = new Uint8Array(await request.arrayBuffer())
  const resend = (signal: AbortSignal) => [url, { ...init, method, headers, body: bytes, signal }] as const
  return { bytes, headers, resend }
}

/** The standard `cache` option of fetch, which Node's own types leave out. */
function cacheOption(options: object | undefined): string | undefined {
  return (options as { cache?: string } | undefined)?.cache
}

/** What in a request keeps it from being answered out of the store. */
export function specialOf(headers: Headers, input: Parameters<Fetch>[0], init: Parameters<Fetch>[1]): SpecialRequest | undefined {
  const cache = cacheOption(init) ?? (input instanceof Request ? cacheOption(input) : undefined)
  if (headers.has('range')) return 'range-asked'
  if (['if-none-match', 'if-modified-since', 'if-match', 'if-unmodified-since', 'if-range'].some((name) => headers.has(name)))
    return 'condition-asked'
  if (cache === 'no-store' || cache === 'reload' || cache === 'no-cache') return 'reload-asked'
  if (/\bno-(cache|store)\b/i.test(`${headers.get('cache-control')} ${headers.get('pragma')}`)) return 'reload-asked'
  return undefined
}

/** In a browser a condition makes a cross-origin request ask for leave first, which could fail where the plain request would not. */
export function mayCarryConditions(url: URL): boolean {
  const { location } = globalThis as { location?: { origin: string } }
  return location === undefined || location.origin === url.origin
}
