import type { Outcome } from '../../core/decide/outcome.js'

type BodyInit = Uint8Array<ArrayBuffer> | ReadableStream<Uint8Array> | null

/** `Response` as Node's own types do not declare it: with members that a subclass may override. */
declare class OpenResponse {
  constructor(body: BodyInit, init: { status: number; statusText: string; headers: [string, string][] })
  get body(): ReadableStream<Uint8Array> | null
  get bodyUsed(): boolean
  clone(): Response
  json(): Promise<unknown>
  text(): Promise<string>
  arrayBuffer(): Promise<ArrayBuffer>
  blob(): Promise<unknown>
  formData(): Promise<unknown>
}
const BaseResponse = Response as unknown as typeof OpenResponse

/** In browsers the stream is quick, and what takes a `Response` asks the stream itself whether it was read. */
const readsAhead = (globalThis as { process?: { versions?: { node?: string } } }).process?.versions?.node !== undefined

/** What a response says of the answer that it is made of. */
interface Head {
  readonly status: number
  readonly statusText: string
  /** The URL that answered in the end, where a redirect led to another than the asked one. */
  readonly url?: string | undefined
}

/**
 * A `Response` that knows where it came from, as one from `fetch` does. Where its whole body is at hand, Node reads it without its stream,
 * which takes most of the time; whoever looks at the stream afterwards finds it read.
 */
export class AnswerResponse extends BaseResponse {
  readonly #url: string
  readonly #redirected: boolean
  /** The whole body, where it is at hand and was not read yet. */
  #bytes: Uint8Array<ArrayBuffer> | undefined
  /** Whether the body was read, and its stream does not know yet. */
  #isAhead = false
  readonly #outcome: Outcome

  constructor(
    body: BodyInit,
    { status, statusText, url: redirectedTo }: Head,
    { url, headers, outcome }: { readonly url: string; readonly headers: [string, string][]; readonly outcome: Outcome },
  ) {
    super(body, { status, statusText, headers })
    this.#url = redirectedTo ?? url
    this.#outcome = outcome
    this.#redirected = redirectedTo !== undefined
    if (readsAhead && body instanceof Uint8Array) this.#bytes = body
  }

  /** How a call was answered, if this is its response. */
  static outcomeOf(response: unknown): Outcome | undefined {
    return typeof response === 'object' && response !== null && #outcome in response ? response.#outcome : undefined
  }

  get url(): string {
    return this.#url
  }

  get redirected(): boolean {
    return this.#redirected
  }

  override get body(): ReadableStream<Uint8Array> | null {
    this.#tellStream()
    return super.body
  }

  override get bodyUsed(): boolean {
    return this.#isAhead || super.bodyUsed
  }

  override clone(): Response {
    this.#tellStream()
    const { url, redirected } = this
    return Object.defineProperties(super.clone(), { url: { value: url }, redirected: { value: redirected } })
  }

  override json(): Promise<unknown> {
    const bytes = this.#taken()
    if (bytes === undefined) return super.json()
    try {
      return Promise.resolve(JSON.parse(decoder.decode(bytes)))
    } catch (error) {
      return Promise.reject(error)
    }
  }

  override text(): Promise<string> {
    const bytes = this.#taken()
    return bytes === undefined ? super.text() : Promise.resolve(decoder.decode(bytes))
  }

  override arrayBuffer(): Promise<ArrayBuffer> {
    const bytes = this.#taken()
    return bytes === undefined ? super.arrayBuffer() : Promise.resolve(bytes.slice().buffer)
  }

  override blob(): Promise<unknown> {
    this.#tellStream()
    return super.blob()
  }

  override formData(): Promise<unknown> {
    this.#tellStream()
    return super.formData()
  }

  /** The whole body, for one who reads it; undefined where the stream has to be read, or says that it was. */
  #taken(): Uint8Array<ArrayBuffer> | undefined {
    const bytes = this.#bytes
    if (bytes === undefined || super.bodyUsed || super.body?.locked) {
      this.#tellStream()
      return undefined
    }
    this.#bytes = undefined
    this.#isAhead = true
    return bytes
  }

  /** Has the stream be read, as it is after its reading. */
  #tellStream(): void {
    if (!this.#isAhead) return
    this.#isAhead = false
    void super.body?.getReader().cancel()
  }
}

const decoder = new TextDecoder()

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
