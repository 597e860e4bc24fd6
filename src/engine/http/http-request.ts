import type { Bypass } from '../../core/decide/decide.js'
import { type CacheOption, type RequestDirectives, requestDirectives } from '../../core/http/request-directives.js'
import { callOptionsOf } from './call-options.js'
import type { Init, Input, RequestSnapshot } from './request-snapshot.js'

/** The header fields that a request is sent with. They are read once, for they are looked at many times. */
export class SentFields implements Iterable<readonly [name: string, value: string]> {
  /** Undefined where none were given. */
  readonly headers: Headers | undefined
  readonly #list: readonly (readonly [string, string])[]

  constructor(headers: Headers | undefined) {
    this.headers = headers
    this.#list = headers ? [...(headers as unknown as Iterable<[string, string]>)] : []
  }

  static of({ input, init }: RequestSnapshot): SentFields {
    const given = init?.headers
    if (given !== undefined) return new SentFields(new Headers(given))
    return input instanceof Request ? new SentFields(new Headers(input.headers)) : none
  }

  get(name: string): string | null {
    for (const [one, value] of this.#list) if (one === name) return value
    return this.#list.length > 0 && /[A-Z]/.test(name) ? this.get(name.toLowerCase()) : null
  }

  has(name: string): boolean {
    return this.get(name) !== null
  }

  [Symbol.iterator](): Iterator<readonly [string, string]> {
    return this.#list[Symbol.iterator]()
  }
}

const none = new SentFields(undefined)

/** Options of a request that a text of it can hold. */
const plainOptions = ['headers', 'method', 'signal', 'redirect']

/**
 * A text that is the same for the same GET: whose URL, fields and options are the same, but for its signal. Undefined for all other requests,
 * and for those of which it would take long to say.
 */
export function textOfGet(input: Input, init: Init): string | undefined {
  let text: string
  let headers: unknown
  if (typeof input === 'string' && /^https?:\/\//.test(input))
    text = input // what is relative means another place on another page
  else if (isPlainly(input, Request)) {
    if (!isPlainGet(input as Request)) return undefined
    text = (input as Request).url
    headers = (input as Request).headers
  } else return undefined
  if (init !== undefined && init !== null) {
    for (const name in init) if (!plainOptions.includes(name)) return undefined
    if (init.method !== undefined && init.method !== 'GET') return undefined
    if (init.headers !== undefined) headers = init.headers
    const { redirect = 'follow' } = init
    if (typeof redirect !== 'string') return undefined
    if (redirect !== 'follow') text = `${redirect} ${text}`
  }
  return headers === undefined ? text : withFields(text, headers)
}

/** Whether a `Request` is a GET whose options are the defaults, and that no dispatcher of its own sends. */
function isPlainGet(request: Request): boolean {
  const { cache = 'default' } = request as { readonly cache?: CacheOption }
  if (request.method !== 'GET' || cache !== 'default') return false
  const { redirect, connection } = callOptionsOf({ input: request, init: undefined })
  return redirect === undefined && connection === ''
}

/** Each with its length before it, so that no two lists have the same text. */
function withFields(text: string, headers: unknown): string | undefined {
  let all = ''
  const add = (name: string, value: unknown) => {
    if (typeof value !== 'string') return false
    all += `${name.length}:${name}${value.length}:${value}`
    return true
  }
  if (isPlainly(headers, Headers)) {
    for (const [name, value] of headers as unknown as Iterable<[string, string]>) add(name, value)
    return all + text
  }
  if (!isPlainly(headers, Object) || Object.getOwnPropertySymbols(headers).length > 0) return undefined // else it may be a list
  for (const name of Object.keys(headers as object)) if (!add(name, (headers as Record<string, unknown>)[name])) return undefined
  return all + text
}

/** Whether a value is of a class itself, not of one that may show itself otherwise. */
function isPlainly(value: unknown, its: { readonly prototype: object }): value is object {
  return typeof value === 'object' && value !== null && Object.getPrototypeOf(value) === its.prototype
}

/** The bytes of a request's body, and the call that sends it. */
export async function bytesOf({ input, init }: RequestSnapshot): Promise<{
  readonly bytes: Uint8Array<ArrayBuffer>
  readonly headers: Headers
  readonly resend: (signal: AbortSignal) => readonly [Input, RequestInit]
}> {
  const request = input instanceof Request ? input : new Request(input, { ...init, signal: null })
  const { method, headers } = request
  const bytes = new Uint8Array(await request.arrayBuffer())
  const body = typeof init?.body === 'string' ? init.body : bytes
  const sent = request.body === null && bytes.byteLength === 0 ? {} : { body }
  const resend = (signal: AbortSignal) => [input, { ...init, method, headers, ...sent, signal } as RequestInit] as const
  return { bytes, headers, resend }
}

/** What a request asks of stored answers, by its fields and by the `cache` option of fetch. */
export function requestDirectivesOf(headers: SentFields, sent: RequestSnapshot): RequestDirectives {
  return requestDirectives(headers.get('cache-control'), headers.get('pragma'), cacheOptionOf(sent))
}

function cacheOptionOf({ input, init }: RequestSnapshot): CacheOption | undefined {
  const own = (init as { readonly cache?: CacheOption } | undefined)?.cache
  return own ?? (input instanceof Request ? (input as { readonly cache?: CacheOption }).cache : undefined)
}

/** What in a request keeps stored answers from it, whatever they are. */
export function bypassOf(excepted: boolean, directives: RequestDirectives): Bypass | undefined {
  if (excepted) return 'request-excepted'
  return directives.noStore ? 'no-store-asked' : undefined
}

/** In a browser a condition makes a cross-origin request ask for leave first, which could fail where the plain request would not. */
export function mayCarryConditions(url: URL): boolean {
  const { location } = globalThis as { location?: { origin: string } }
  return location === undefined || location.origin === url.origin
}
