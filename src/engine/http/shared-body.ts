interface Reader {
  readonly controller: ReadableByteStreamController
  readonly leave: () => void
  /** Whether it waits for bytes. */
  waits: boolean
}

/**
 * The body of an answer while it arrives. Every reader gets each byte as soon as it is there, in a copy of its own. All of it is kept
 * up to a size; past that nothing is, and it is read no faster than the fastest reader asks for it.
 */
export class SharedBody {
  readonly #source: ReadableStreamDefaultReader<Uint8Array>
  readonly #maxBytes: number
  readonly #desert: (reason: unknown) => void
  readonly #explain: (cause: unknown) => unknown
  readonly #watch: () => () => void
  readonly #readers = new Set<Reader>()
  #chunks: Uint8Array[] = []
  #size = 0
  /** Bytes held, which are all that came until the body is larger than what is kept and somebody reads on. */
  #kept = 0
  #state: 'filling' | 'whole' | 'released' | 'outgrown' | 'over' | { readonly broken: unknown } = 'filling'
  #reading = false
  readonly #cut: Promise<never>
  #breakOff!: (reason: unknown) => void

  /**
   * `desert` is called when the last reader has gone before the end; `explain` makes the error that readers get of the one that broke
   * the body off; `watch` is called when a piece of a body that is not kept is waited for, and what it returns when it is there.
   */
  constructor(
    source: ReadableStream<Uint8Array>,
    maxBytes: number,
    { desert, explain, watch }: { desert: (reason: unknown) => void; explain: (cause: unknown) => unknown; watch: () => () => void },
  ) {
    this.#source = source.getReader()
    this.#maxBytes = maxBytes
    this.#desert = desert
    this.#explain = explain
    this.#watch = watch
    this.#cut = new Promise((_, reject) => {
      this.#breakOff = reject
    })
    this.#cut.catch(noop)
  }

  /** The bytes, once they are whole and if they are kept. */
  get bytes(): Uint8Array | undefined {
    return this.#state === 'whole' || this.#state === 'released' ? this.#joined() : undefined
  }

  /** Whether one more reader would still get all of it. */
  get joinable(): boolean {
    return typeof this.#state === 'string' && this.#state !== 'over' && this.#size === this.#kept
  }

  /** Reads until the body is whole or larger than what is kept. Rejects when it breaks off, or has not the `length` it has to have. Call once. */
  async fill(length?: number): Promise<'whole' | 'outgrown'> {
    while (this.#size <= this.#maxBytes) {
      const { done, value } = await this.#next()
      if (done) {
        if (length !== undefined && length !== this.#size) throw this.#broken(new Error(`${this.#size} bytes came of ${length}`))
        this.#state = 'whole'
        return 'whole'
      }
      this.#chunks.push(value)
      this.#size += value.byteLength
      this.#kept = this.#size
      for (const reader of this.#readers) give(reader, value)
    }
    this.#state = 'outgrown'
    if ([...this.#readers].some(({ waits }) => waits)) void this.#readOn()
    return 'outgrown'
  }

  /** Ends a body that is still arriving, also where its source does not. */
  breakOff(reason: unknown): void {
    this.#breakOff(reason)
    this.#source.cancel(reason).catch(noop)
  }

  /** Lets the readers of a whole body see its end. */
  release(): void {
    if (this.#state !== 'whole') return
    this.#state = 'released'
    this.#endReaders()
  }

  /** A stream of the body for one caller, who leaves when `signal` aborts. */
  stream(signal: AbortSignal | undefined): ReadableStream<Uint8Array> {
    let reader: Reader
    return new ReadableStream({
      type: 'bytes',
      start: (controller) => {
        const aborted = () => {
          controller.error(signal?.reason)
          this.#part(reader, signal?.reason)
        }
        reader = { controller, waits: false, leave: () => signal?.removeEventListener('abort', aborted) }
        if (typeof this.#state === 'object') return controller.error(this.#state.broken)
        for (const chunk of this.#chunks) give(reader, chunk)
        if (this.#state === 'released') return controller.close()
        this.#readers.add(reader)
        if (signal?.aborted) aborted()
        else signal?.addEventListener('abort', aborted, { once: true })
      },
      pull: () => {
        reader.waits = true
        if (this.#state === 'outgrown') void this.#readOn()
      },
      cancel: (reason) => this.#part(reader, reason),
    })
  }

  /** One more piece for the readers of a body that is not kept. */
  async #readOn(): Promise<void> {
    if (this.#reading) return
    this.#reading = true
    const over = this.#watch()
    try {
      const { done, value } = await this.#next()
      over()
      this.#chunks = []
      this.#kept = 0
      if (done) {
        this.#state = 'over'
        this.#endReaders()
      } else for (const reader of this.#readers) give(reader, value)
    } catch {
      over() // the readers know
    }
    this.#reading = false
  }

  /** Never an empty piece. */
  async #next(): Promise<{ done: true; value?: undefined } | { done: false; value: Uint8Array }> {
    try {
      for (;;) {
        const { done, value } = await Promise.race([this.#source.read(), this.#cut])
        if (done) return { done }
        if (value.byteLength > 0) return { done, value }
      }
    } catch (cause) {
      throw this.#broken(cause)
    }
  }

  #broken(cause: unknown): unknown {
    const broken = this.#explain(cause)
    this.#state = { broken }
    for (const { controller, leave } of this.#readers) {
      leave()
      controller.error(broken)
    }
    this.#readers.clear()
    return broken
  }

  #endReaders(): void {
    for (const { controller, leave } of this.#readers) {
      leave()
      controller.close()
      controller.byobRequest?.respond(0)
    }
    this.#readers.clear()
  }

  #part(reader: Reader, reason: unknown): void {
    reader.leave()
    if (this.#readers.delete(reader) && this.#readers.size === 0 && this.#state !== 'whole') this.#desert(reason)
  }

  #joined(): Uint8Array {
    if (this.#chunks.length === 1) return this.#chunks[0] as Uint8Array
    const bytes = new Uint8Array(this.#size)
    let at = 0
    for (const chunk of this.#chunks) {
      bytes.set(chunk, at)
      at += chunk.byteLength
    }
    this.#chunks = [bytes]
    return bytes
  }
}

function noop(): void {}

function give(reader: Reader, bytes: Uint8Array): void {
  reader.waits = false
  reader.controller.enqueue(bytes.slice())
}
