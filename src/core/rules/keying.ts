/** A request as the functions of a rule see it, and as its key is made of it. */
export interface KeyedRequest {
  /** In capitals. */
  readonly method: string
  readonly url: URL
  /** The value of a header field, or null. */
  header(name: string): string | null
  /** The body's bytes; only where the endpoint is marked `safe`. */
  readonly body?: Uint8Array | undefined
}

/** Which parts of a request tell its answer from others. */
export interface KeyOptions {
  /** Query parameters that matter, or all `except` some. Default: all. */
  readonly query?: readonly string[] | { readonly except: readonly string[] }
  /** Header fields that matter, such as `Accept-Language`. Default: none. */
  readonly headers?: readonly string[]
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
  /** Whether a query parameter matters. */
  readonly usesParameter: (name: string) => boolean
  readonly headers: readonly string[]
  readonly cookies: readonly string[]
  readonly pointers: readonly string[] | undefined
  readonly by: KeyFunction | undefined
  /** Whether callers with different credentials may share an answer. */
  readonly shared: boolean
  readonly per: ((request: KeyedRequest) => string) | undefined
  readonly version: number | undefined
}

/** What of a provider's rules says who calls: credentials, which stand in keys as a digest only. */
export interface CallerRule {
  /** Query parameters that carry a credential. */
  readonly secretQuery: ReadonlySet<string>
  /** Header fields that say who calls. */
  readonly callerHeaders: readonly string[]
}

export interface KeyingOptions {
  readonly keyedBy?: KeyOptions | KeyFunction
  readonly shared?: boolean
  readonly per?: (request: KeyedRequest) => string
  readonly version?: number
}

export function compileKeying(owner: Keying['owner'], { keyedBy = {}, shared = false, per, version }: KeyingOptions): Keying {
  const { query, headers = [], cookies = [], body } = typeof keyedBy === 'function' ? ({} as KeyOptions) : keyedBy
  return {
    owner,
    usesParameter: parameterTest(query),
    headers: headers.map((name) => name.toLowerCase()).sort(),
    cookies: [...cookies].sort(),
    pointers: body,
    by: typeof keyedBy === 'function' ? keyedBy : undefined,
    ...{ shared, per, version },
  }
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
