import { isPlainArray, isPlainObject } from '../../core/rules/object-kind.js'
import { ownBytes } from '../../core/rules/own-copy.js'
import type { Fetch } from './http-upstream.js'

export type Input = Parameters<Fetch>[0]
export type Init = Parameters<Fetch>[1]

/** The arguments of a `fetch` call, copied: nothing the caller does later changes them. */
export interface RequestSnapshot {
  readonly input: string | Request
  readonly init: Init
  readonly signal: AbortSignal | undefined
  /** Whether it is the signal of a `Request`: every one has one, whether or not it was given any. */
  readonly isSignalOfRequest: boolean
}

/**
 * Copies the arguments of a `fetch` call, as the Fetch Standard reads them when it is called (sections 5.3 and 5.4): the URL, each member of `init`, the
 * header fields, the bytes of a body, all of a `Request`, whose body is then used. Streams are not copied. Throws what `Request` and `Headers` throw.
 */
export function snapshotOf(input: Input, init: Init): RequestSnapshot {
  const own = init === undefined || init === null ? undefined : ownInit(init)
  if (input instanceof Request) return ofRequest(input, own)
  if (isForeignRequest(input)) return ofForeignRequest(input, own)
  return { input: String(input), init: own, signal: own?.signal ?? undefined, isSignalOfRequest: false }
}

/** The members of `RequestInit` (Fetch Standard, section 5.4). They may be inherited, as those of a `Request` are. */
export const members = [
  'method',
  'headers',
  'body',
  'mode',
  'credentials',
  'cache',
  'redirect',
  'referrer',
  'referrerPolicy',
  'integrity',
  'keepalive',
  'signal',
  'duplex',
  'priority',
  'window',
  'dispatcher', // of Node
] as const

type Members = { -readonly [Name in (typeof members)[number]]?: unknown }

/** A copy of `init`, with the members that it inherits. */
export function ownInit(init: NonNullable<Init>): RequestInit {
  if (typeof init !== 'object' && typeof init !== 'function') throw new TypeError('the options of fetch are not an object')
  const own: Members = { ...(init as Members) }
  for (const name of members) {
    if (!Object.hasOwn(own, name) && name in init) own[name] = (init as Members)[name]
    if (own[name] === undefined) delete own[name]
  }
  if (own.headers !== undefined) own.headers = ownFields(own.headers)
  if (own.body !== undefined) own.body = ownBody(own.body)
  return own as RequestInit
}

/** Copies header fields, in the same form. */
function ownFields(fields: unknown): unknown {
  if (fields instanceof Headers) return new Headers(fields)
  if (typeof fields !== 'object' || fields === null) return fields
  if (Symbol.iterator in fields) return Array.from(fields as Iterable<Iterable<unknown>>, (pair) => Array.from(pair, ownValue))
  return Object.fromEntries(Object.entries(fields).map(([name, value]) => [name, ownValue(value)]))
}

function ownValue(value: unknown): unknown {
  return typeof value === 'object' && value !== null ? String(value) : value
}

function ownBody(body: unknown): unknown {
  if (typeof body !== 'object' || body === null) return body
  if (body instanceof URLSearchParams) return new URLSearchParams(body)
  if (body instanceof FormData) return ownForm(body)
  if (isPlainObject(body) || isPlainArray(body)) return String(body)
  return ownBytes(body) ?? body
}

function ownForm(form: FormData): FormData {
  const own = new FormData()
  form.forEach((value, name) => void own.append(name, value as string))
  return own
}

/** Members of `init` that `Request` does not know are passed on to a `fetch` that may. */
function ofRequest(request: Request, init: RequestInit | undefined): RequestSnapshot {
  const isSignalOfRequest = init?.signal === undefined
  const signal = (isSignalOfRequest ? request.signal : init?.signal) ?? undefined
  const rest: Members = { ...init }
  for (const name of members) if (name !== 'dispatcher') delete rest[name]
  const isBare = Reflect.ownKeys(rest).length === 0
  return {
    input: new Request(request, { ...init, signal: null }),
    init: isBare ? undefined : (rest as RequestInit),
    signal,
    isSignalOfRequest,
  }
}

/** Members that Node's own types leave out. */
interface Options {
  readonly cache?: string
  readonly credentials?: string
  readonly referrer?: string
}

/** A `Request` of another copy of the fetch classes. */
function ofForeignRequest(request: Request, init: RequestInit | undefined): RequestSnapshot {
  const { url, method, headers, body, redirect, integrity, keepalive, signal, cache, credentials, referrer } = request as Request & Options
  const fields = [...(headers as unknown as Iterable<[string, string]>)]
  const options = { method, headers: fields, redirect, integrity, keepalive, signal, cache, credentials, referrer }
  const known = Object.fromEntries(Object.entries(options).filter(([, value]) => value !== undefined)) as RequestInit
  const all: RequestInit = { ...known, ...(body && { body, duplex: 'half' }), ...init }
  return { input: url, init: all, signal: all.signal ?? undefined, isSignalOfRequest: init?.signal === undefined }
}

function isForeignRequest(input: unknown): input is Request {
  const { url, method, arrayBuffer } = (typeof input === 'object' && input !== null ? input : {}) as Partial<Request>
  return typeof url === 'string' && typeof method === 'string' && typeof arrayBuffer === 'function'
}

/** Methods that `Request` takes as they are. */
const usualMethods = ['GET', 'HEAD', 'POST', 'PUT', 'DELETE', 'PATCH', 'OPTIONS']

/** Members of `init` that cannot make it wrong, or that are looked at here. */
const harmless: readonly string[] = ['method', 'headers', 'body', 'signal', 'dispatcher', 'keepalive', 'duplex']

/**
 * Throws what `fetch` would reject with before anything leaves (Fetch Standard, section 5.4): a GET with a body, a URL with a user, a stream that was used, a
 * member of `init` that is none. A `Request` was checked when it was made.
 */
export function assertSendable({ input, init }: RequestSnapshot, url: URL): void {
  if (input instanceof Request) return
  const { method = 'GET', body } = init ?? {}
  const isUsual =
    url.username === '' &&
    url.password === '' &&
    usualMethods.includes(method) &&
    (body === undefined || body === null || (method !== 'GET' && method !== 'HEAD' && !isStream(body))) &&
    Object.keys(init ?? {}).every((name) => harmless.includes(name))
  if (!isUsual) new Request(url, { ...init, signal: null })
}

function isStream(body: unknown): boolean {
  return typeof body === 'object' && body !== null && (body instanceof ReadableStream || Symbol.asyncIterator in body)
}
