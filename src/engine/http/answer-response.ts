import type { Outcome } from '../../core/decide/outcome.js'

type BodyInit = Uint8Array<ArrayBuffer> | ReadableStream<Uint8Array> | null

/** `Response` as Node's own types do not declare it: with members that a subclass may override. */
declare class OpenResponse {
  constructor(body: BodyInit, init: { status: number; statusText: string; headers: [string, string][] })
  get body(): ReadableStream<Uint8Array> | null
  get bodyUsed(): boolean
  get status(): number
  get statusText(): string
  get headers(): Iterable<[string, string]> & Headers
  clone(): Response
  json(): Promise<unknown>
  text(): Promise<string>
  arrayBuffer(): Promise<ArrayBuffer>
  blob(): Promise<unknown>
  formData(): Promise<unknown>
}
const BaseResponse = Response as unknown as typeof OpenResponse

/**
 * Whether this is Node, whose responses are made of their own getters for all that takes one. Making a stream takes it most of the time of a
 * response. Elsewhere streams are quick, and what takes a `Response` (`cache.put`, `respondWith`) looks behind the getters.
 */
const { node, undici, bun, deno } = (globalThis as { process?: { versions?: Record<string, string> } }).process?.versions ?? {}
const streamsLater = node !== undefined && undici !== undefined && bun === undefined && deno === undefined

/** What a response says of the answer that it is made of. */
interface Head {
  readonly status: number
  readonly statusText: string
  /** The URL that answered in the end, where a redirect led to another than the asked one. */
  readonly url?: string | undefined
}

/**
 * A `Response` that knows where it came from, as one from `fetch` does. Where its whole body is at hand, Node reads it without a stream, and makes
 * one for whoever asks.
 */
export class AnswerResponse extends BaseResponse {
  readonly #url: string
  readonly #redirected: boolean
  /** The whole body, where it is at hand and nobody has asked for a stream of it. */
  readonly #bytes: Uint8Array<ArrayBuffer> | undefined
  /** Whether it was read. */
  #isRead = false
  /** What has the stream, in place of this, once somebody asked for it. */
  #streamed: OpenResponse | undefined
  readonly #outcome: Outcome

  constructor(
    body: BodyInit,
    { status, statusText, url: redirectedTo }: Head,
    { url, headers, outcome }: { readonly url: string; readonly headers: [string, string][]; readonly outcome: Outcome },
  ) {
    const bytes = streamsLater && body instanceof Uint8Array ? body : undefined
    super(bytes ? null : body, { status, statusText, headers })
    this.#url = redirectedTo ?? url
    this.#outcome = outcome
    this.#redirected = redirectedTo !== undefined
    this.#bytes = bytes
  }

  /** How a call was answered, if this is its response. */
  static outcomeOf(response: unknown): Outcome | undefined {
    if (typeof response !== 'object' || response === null) return undefined
    return #outcome in response ? response.#outcome : outcomesOfClones.get(response)
  }

  get url(): string {
    return this.#url
  }

  get redirected(): boolean {
    return this.#redirected
  }

  override get body(): ReadableStream<Uint8Array> | null {
    return this.#bytes ? this.#withStream(this.#bytes).body : super.body
  }

  override get bodyUsed(): boolean {
    return this.#bytes ? this.#isRead || this.#streamed?.bodyUsed === true : super.bodyUsed
  }

  override clone(): Response {
    const { url, redirected } = this
    const clone = this.#bytes ? this.#withHeaders(this.#bytes).clone() : super.clone()
    return asClone(clone, { url, redirected, outcome: this.#outcome })
  }

  override json(): Promise<unknown> {
    const bytes = this.#taken()
    if (bytes === undefined) return this.#bytes ? this.#withStream(this.#bytes).json() : super.json()
    try {
      return Promise.resolve(JSON.parse(decoder.decode(bytes)))
    } catch (error) {
      return Promise.reject(error)
    }
  }

  override text(): Promise<string> {
    const bytes = this.#taken()
    if (bytes === undefined) return this.#bytes ? this.#withStream(this.#bytes).text() : super.text()
    return Promise.resolve(decoder.decode(bytes))
  }

  override arrayBuffer(): Promise<ArrayBuffer> {
    const bytes = this.#taken()
    if (bytes === undefined) return this.#bytes ? this.#withStream(this.#bytes).arrayBuffer() : super.arrayBuffer()
    return Promise.resolve(new Uint8Array(bytes).buffer)
  }

  override blob(): Promise<unknown> {
    return this.#bytes ? this.#withHeaders(this.#bytes).blob() : super.blob()
  }

  override formData(): Promise<unknown> {
    return this.#bytes ? this.#withHeaders(this.#bytes).formData() : super.formData()
  }

  /** The whole body, for one who reads it; undefined where there is a stream of it, or it was read before. */
  #taken(): Uint8Array<ArrayBuffer> | undefined {
    if (this.#bytes === undefined || this.#streamed || this.#isRead) return undefined
    this.#isRead = true
    return this.#bytes
  }

  /** A response with the stream of the body, which is read where the body was. */
  #withStream(bytes: Uint8Array<ArrayBuffer>): OpenResponse {
    if (this.#streamed) return this.#streamed
    this.#streamed = new BaseResponse(bytes, { status: super.status, statusText: super.statusText, headers: [] })
    if (this.#isRead) void this.#streamed.body?.getReader().cancel()
    return this.#streamed
  }

  /** The same with the fields as they are now, for what goes by these. */
  #withHeaders(bytes: Uint8Array<ArrayBuffer>): OpenResponse {
    const streamed = this.#withStream(bytes)
    for (const name of [...streamed.headers.keys()]) streamed.headers.delete(name)
    for (const [name, value] of this.headers) streamed.headers.append(name, value)
    return streamed
  }
}

/** A clone, and those of it, say the same of themselves. */
function asClone(clone: Response, head: { readonly url: string; readonly redirected: boolean; readonly outcome: Outcome }): Response {
  outcomesOfClones.set(clone, head.outcome)
  const again = clone.clone.bind(clone)
  return Object.defineProperties(clone, {
    ...{ url: { value: head.url }, redirected: { value: head.redirected } },
    clone: { value: () => asClone(again(), head), writable: true, configurable: true },
  })
}

const decoder = new TextDecoder()

/** How the calls were answered whose responses were cloned. */
const outcomesOfClones = new WeakMap<object, Outcome>()

/** Where the runtime has it (Node >= 22). */
if ('bytes' in Response.prototype) {
  const bytes = async function (this: AnswerResponse) {
    return new Uint8Array(await this.arrayBuffer())
  }
  Object.defineProperty(AnswerResponse.prototype, 'bytes', { value: bytes, writable: true, configurable: true })
}

/** A `Response` with what its constructor does not take: other statuses, phrases beyond ASCII, the type of one that was passed on. */
export function unusualResponse(
  response: Response,
  { status, statusText, type = 'default' }: Head & { readonly type?: string | undefined },
): Response {
  const clone = response.clone.bind(response)
  const ok = status >= 200 && status <= 299
  const values = { status, statusText, ok, type, clone: () => unusualResponse(clone(), { status, statusText, type }) }
  return Object.defineProperties(response, Object.fromEntries(Object.entries(values).map(([name, value]) => [name, { value }])))
}
