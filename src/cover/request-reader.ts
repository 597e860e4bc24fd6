/** A request as a client of `node:http` wrote it. */
export interface WrittenRequest {
  readonly method: string
  readonly path: string
  /** Names as they were written. */
  readonly fields: readonly (readonly [name: string, value: string])[]
  /** Undefined where it has none. */
  readonly body: Buffer | undefined
}

export interface ReaderEvents {
  /** A head that announces a body, which waits for `100 Continue` where `expects`. */
  head(expects: boolean): void
  request(request: WrittenRequest): void
  /** A request that changes the protocol: nothing of what follows is read here. */
  upgrade(request: WrittenRequest, rest: Buffer): void
}

const endOfHead = Buffer.from('\r\n\r\n')
const none = Buffer.alloc(0)

/** Reads the requests of one connection from the bytes that Node's own client writes, one after the other (RFC 9112). */
export class RequestReader {
  readonly #events: ReaderEvents
  #bytes: Buffer = none
  /** The request whose body is being read. */
  #head: WrittenRequest | undefined
  /** How much of it is to come; undefined where it comes in chunks. */
  #length: number | undefined
  #chunks: Buffer[] = []
  #isUpgraded = false

  constructor(events: ReaderEvents) {
    this.#events = events
  }

  push(chunk: Buffer): void {
    this.#bytes = this.#bytes.byteLength === 0 ? chunk : Buffer.concat([this.#bytes, chunk])
    while (!this.#isUpgraded && (this.#head ? this.#readBody(this.#head) : this.#readHead()));
  }

  /** Returns whether to go on. */
  #readHead(): boolean {
    const end = this.#bytes.indexOf(endOfHead)
    if (end < 0) return false
    const [first = '', ...lines] = this.#bytes.toString('latin1', 0, end).split('\r\n')
    this.#bytes = this.#bytes.subarray(end + endOfHead.byteLength)
    const [method = 'GET', path = '/'] = first.split(' ')
    const fields = lines.map((line): [string, string] => {
      const colon = line.indexOf(':')
      return [line.slice(0, colon), line.slice(colon + 1).trim()]
    })
    const head = { method, path, fields, body: undefined }
    const fieldNamed = (name: string) => fields.find(([one]) => one.toLowerCase() === name)?.[1]
    if (fieldNamed('upgrade') !== undefined) {
      this.#isUpgraded = true
      this.#events.upgrade(head, this.#bytes)
      return false
    }
    const length = fieldNamed('content-length')
    const isChunked = fieldNamed('transfer-encoding') !== undefined
    if (!isChunked && (length === undefined || length === '0')) {
      this.#events.request(head)
      return this.#bytes.byteLength > 0
    }
    this.#head = head
    this.#length = isChunked ? undefined : Number(length)
    this.#events.head(fieldNamed('expect')?.toLowerCase() === '100-continue')
    return true
  }

  #readBody(head: WrittenRequest): boolean {
    if (this.#length === undefined) return this.#readChunk(head)
    const part = this.#bytes.subarray(0, this.#length)
    this.#take(part.byteLength, part)
    this.#length -= part.byteLength
    return this.#length === 0 && this.#over(head)
  }

  /** One chunk; the last is empty, and trailer fields may follow it (RFC 9112 section 7.1). */
  #readChunk(head: WrittenRequest): boolean {
    const end = this.#bytes.indexOf('\r\n')
    if (end < 0) return false
    const size = Number.parseInt(this.#bytes.toString('latin1', 0, end), 16)
    if (size === 0) {
      const last = this.#bytes.indexOf(endOfHead)
      if (last < 0) return false
      this.#take(last + endOfHead.byteLength)
      return this.#over(head)
    }
    if (this.#bytes.byteLength < end + size + 4) return false
    this.#take(end + size + 4, this.#bytes.subarray(end + 2, end + 2 + size))
    return true
  }

  #take(bytes: number, part?: Buffer): void {
    if (part) this.#chunks.push(part)
    this.#bytes = this.#bytes.subarray(bytes)
  }

  #over(head: WrittenRequest): boolean {
    const body = Buffer.concat(this.#chunks)
    this.#head = undefined
    this.#chunks = []
    this.#events.request({ ...head, body })
    return this.#bytes.byteLength > 0
  }
}
