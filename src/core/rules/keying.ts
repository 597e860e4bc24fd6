import type { Credentials } from './credentials.js'
import { choosesNothing } from './fields-left-out.js'

/** A request as the functions of a rule see it, and as its key is made of it. */
export interface KeyedRequest {
  /** In capitals. */
  readonly method: string
  readonly url: URL
  /** The value of a header field, or null. */
  header(name: string): string | null
  /** The body's bytes; only where the endpoint is marked `safe`. */
  readonly body?: Uint8Array | undefined
  /** The body as text (UTF-8); empty where there is none. */
  text(): string
  /** The JSON of the body. Throws where it is not JSON. */
  json(): unknown
}

/** A request with all of its header fields, their names in lower case and each once. */
export interface SentRequest extends KeyedRequest {
  readonly fields: Iterable<readonly [name: string, value: string]>
  /** What of its body distinguishes it from others, where that is not simply all of it. */
  readonly identity?: { readonly body: Uint8Array; readonly name: string } | undefined
}

/** Which parts of a request tell its answer from others. */
export interface KeyOptions {
  /** Query parameters that matter, or all `except` some. Default: all. */
  readonly query?: readonly string[] | { readonly except: readonly string[] }
  /** Header fields that matter, or all that are sent `except` some. Default: all that are sent, but for those that choose no response (`fieldsLeftOut`). */
  readonly headers?: readonly string[] | { readonly except: readonly string[] }
  /** Cookies that matter, by name; only their digest is written down. Default: none besides telling callers apart. */
  readonly cookies?: readonly string[]
  /** Parts of a JSON body that matter, as JSON Pointers (RFC 6901). Default: the whole body. */
  readonly body?: readonly string[]
}

/** A function that returns what tells one answer from another, as plain JSON data, in place of URL and body. */
export type KeyFunction = (request: KeyedRequest) => unknown

/** How keys of an endpoint are made, compiled. */
export interface Keying {
  /** The endpoint whose keys they are. */
  readonly owner: { readonly provider: string; readonly name: string }
  /** Query parameters by whose values the endpoint is found: they matter always. */
  readonly fixed: readonly string[]
  /** Whether another query parameter matters. */
  readonly usesParameter: (name: string) => boolean
  /** Header fields that matter, sent or not; undefined where those matter that are sent and for which `usesField` is true. */
  readonly headers: readonly string[] | undefined
  readonly usesField: (name: string) => boolean
  readonly cookies: readonly string[]
  readonly pointers: readonly string[] | undefined
  readonly by: KeyFunction | undefined
  /** Whether callers with different credentials may share an answer. */
  readonly shared: boolean
  readonly per: ((request: KeyedRequest) => string) | undefined
  readonly version: number | undefined
}

/** What of a provider's rules says who calls: credentials, which stand in keys as a digest only, or a function. */
export interface CallerRule {
  readonly credentials: Credentials
  /** Names who calls, in place of credentials that are different each time. */
  readonly caller: ((request: KeyedRequest) => string) | undefined
}

/**
 * Request fields that select among representations of a resource, or say what is requested: those of HTTP and its extensions, and any whose
 * name ends in `version`. Their values stand in keys as they are; those of all others as a digest.
 */
export const selectingFields = [
  ...['accept', 'accept-charset', 'accept-datetime', 'accept-language', 'accept-profile', 'a-im', 'prefer', 'want-content-digest'],
  ...['want-repr-digest', 'want-digest', 'depth', 'translate', 'soapaction', 'x-amz-target', 'x-fields', 'x-goog-fieldmask'],
  ...['x-http-method', 'x-http-method-override', 'x-method-override', 'x-language', 'x-locale', 'x-currency', 'x-timezone'],
] as const

export interface KeyingOptions {
  readonly keyedBy?: KeyOptions | KeyFunction
  readonly shared?: boolean
  readonly per?: (request: KeyedRequest) => string
  readonly version?: number
}

/** `fixed`: the query parameters by whose values the endpoint is found. `credentials`: fields that are such count by themselves, where callers are told apart. */
export function compileKeying(
  owner: Keying['owner'],
  { keyedBy = {}, shared = false, per, version }: KeyingOptions,
  fixed: readonly string[] = [],
  credentials?: Pick<Credentials, 'isField'>,
): Keying {
  const { query, headers, cookies = [], body } = typeof keyedBy === 'function' ? ({} as KeyOptions) : keyedBy
  const listed = headers !== undefined && !('except' in headers) ? headers.map((name) => name.toLowerCase()).sort() : undefined
  const except = new Set(headers !== undefined && 'except' in headers ? headers.except.map((name) => name.toLowerCase()) : [])
  return {
    ...{ owner, fixed, usesParameter: parameterTest(query), headers: listed },
    usesField: (name) => !choosesNothing(name) && !except.has(name) && credentials?.isField(name) !== true,
    cookies: [...cookies].sort(),
    pointers: body,
    by: typeof keyedBy === 'function' ? keyedBy : undefined,
    ...{ shared, per, version },
  }
}

/** Whether a request field is one of those whose values say nothing of who calls. */
export function selects(name: string): boolean {
  return (selectingFields as readonly string[]).includes(name) || name.endsWith('version')
}

function parameterTest(query: KeyOptions['query']): Keying['usesParameter'] {
  if (query === undefined) return () => true
  if ('except' in query) {
    const except = new Set(query.except)
    return (name) => !except.has(name)
  }
  const only = new Set(query)
  return (name) => only.has(name)
}
