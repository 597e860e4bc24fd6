import { joinedBytes } from '../../core/bytes.js'
import type { BodyWatcher } from '../call/arriving.js'
import { end, give, type Reader } from './body-readers.js'

/** What a body calls while it arrives. */
export interface BodyHooks {
  /** The last reader has left before the end. */
  readonly desert: (reason: unknown) => void
  /** Makes the error that readers get of the one that broke the body off. */
  readonly explain: (cause: unknown) => unknown
  /** A piece is waited for; it has arrived; none is waited for any more. */
  readonly waits: () => void
  readonly arrived: () => void
  readonly stop: () => void
}

type State = 'filling' | 'complete' | 'outgrown' | 'over' | { readonly broken: unknown }

type Piece = { readonly done: true; readonly value?: undefined } | { readonly done: false; readonly value: Uint8Array }

/**
 * The body of an answer while it arrives. Every reader gets each byte as soon as it is there, in a copy of its own. All of it is kept
 * up to a size; past that nothing is, and it is read no faster than the fastest reader asks for it.
 */
export class SharedBody {
  /** Resolves once it has ended, or is too large to be kept. */
  readonly settled: Promise<'ended' | 'outgrown'>
  #settle!: (how: 'ended' | 'outgrown') => void
  readonly #source: ReadableStreamDefaultReader<Uint8Array>
  readonly #maxBytes: number
  readonly #hooks: BodyHooks
  readonly #readers = new Set<Reader>()
  #watcher: BodyWatcher | undefined
  /** Why the last reader left, where it goes on for the watcher. */
  #deserted: { readonly reason: unknown } | undefined
  #chunks: Uint8Array[] = []
  #size = 0
  /** Bytes held, which are all that came until the body is larger than what is kept and somebody reads on. */
  #kept = 0
  #state: State = 'filling'
  #isReleased = false
  #reading = false
  #wasRead = false
  #length: number | undefined
  /** Fails the read under way. */
  #failRead: ((reason: unknown) => void) | undefined
  #cut: { readonly reason: unknown } | undefined
  /** Ends the wait for a body that is too large to be kept. */
  #over: { readonly resolve: () => void; readonly reject: (error: unknown) => void } | undefined

  constructor(source: ReadableStream<Uint8Array>, maxBytes: number, hooks: BodyHooks) {
    this.#source = source.getReader()
    this.#maxBytes = maxBytes
    this.#hooks = hooks
    this.settled = new Promise((resolve) => {
      this.#settle = resolve
    })
  }

  /** The bytes, once they are complete and if they are kept. */
  get bytes(): Uint8Array | undefined {
    if (this.#state !== 'complete') return undefined
    if (this.#chunks.length !== 1) this.#chunks = [joinedBytes(this.#chunks)]
    return this.#chunks[0]
  }

  /** Whether one more reader would still get all of it. */
  get joinable(): boolean {
    return typeof this.#state === 'string' && this.#state !== 'over' && this.#size === this.#kept
  }

  /** Whether nobody ever read it. */
  get isUnread(): boolean {
    return !this.#wasRead
  }

  /** Reads until the body ends. Rejects when it breaks off, or has not the `length` it has to have. Call once. */
  async fill(length?: number): Promise<'complete' | 'too-large'> {
    this.#length = length
    try {
      while (this.#size <= this.#maxBytes) {
        const { done, value } = await this.#next()
        if (done) {
          this.#assertLength()
          this.#state = 'complete'
          return 'complete'
        }
        this.#chunks.push(value)
        this.#kept = this.#size
        for (const reader of this.#readers) give(reader, value)
        this.#watcher?.piece(value)
      }
    } finally {
      this.#hooks.stop()
      this.#settle(this.#size > this.#maxBytes && typeof this.#state === 'string' ? 'outgrown' : 'ended')
    }
    this.#state = 'outgrown'
    this.#unwatch('too-large')
    if (this.#cut) throw this.#broken(this.#cut.reason)
    if ([...this.#readers].some(({ waits }) => waits)) void this.#readOn()
    await new Promise<void>((resolve, reject) => {
      this.#over = { resolve, reject }
    })
    return 'too-large'
  }

  /** Ends a body that is still arriving, also where its source does not. */
  breakOff(reason: unknown): void {
    this.#cut ??= { reason }
    this.#source.cancel(reason).catch(noop)
    if (this.#failRead) this.#failRead(reason)
    else if (this.#state === 'outgrown') this.#broken(reason)
  }

  /** Lets readers see that it has ended, or broken off: once all else knows. */
  release(): void {
    this.#isReleased = true
    if (!this.#hasEnded) return
    for (const reader of this.#readers) end(reader, this.#state)
    this.#readers.clear()
    this.#unwatch(typeof this.#state === 'object' ? this.#state : 'complete')
  }

  /** Shows a watcher each piece from the first on. Returns false where not all of it is kept. There may be one. */
  watch(watcher: BodyWatcher): boolean {
    if (!this.joinable || this.#state === 'outgrown') return false
    for (const chunk of this.#chunks) watcher.piece(chunk)
    if (this.#hasEnded && this.#isReleased) watcher.over('complete')
    else this.#watcher = watcher
    return true
  }

  /** The watcher wants no more: where no reader is left, nobody does. */
  unwatched(): void {
    if (this.#deserted && !this.#hasEnded && this.#readers.size === 0) this.#hooks.desert(this.#deserted.reason)
  }

  #unwatch(how: Parameters<BodyWatcher['over']>[0]): void {
    const watcher = this.#watcher
    this.#watcher = undefined
    watcher?.over(how)
    if (how === 'too-large') this.unwatched()
  }

  get #hasEnded(): boolean {
    return this.#state !== 'filling' && this.#state !== 'outgrown'
  }

  /** A stream of the body for one caller, who leaves when `signal` aborts. `abandoned` is called where it leaves before the end. */
  stream(signal: AbortSignal | undefined, abandoned: () => void): ReadableStream<Uint8Array> {
    this.#wasRead = true
    let reader: Reader
    return new ReadableStream({
      type: 'bytes',
      start: (controller) => {
        const aborted = () => {
          controller.error(signal?.reason)
          this.#part(reader, signal?.reason)
        }
        reader = { controller, waits: false, abandoned, leave: () => signal?.removeEventListener('abort', aborted) }
        for (const chunk of this.#chunks) give(reader, chunk)
        if (this.#hasEnded && this.#isReleased) return end(reader, this.#state)
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
    try {
      const { done, value } = await this.#next()
      this.#chunks = []
      this.#kept = 0
      if (done) {
        this.#assertLength()
        this.#hooks.stop()
        this.#state = 'over'
        this.#over?.resolve()
      } else for (const reader of this.#readers) give(reader, value)
    } catch {
      // the readers know
    }
    this.#reading = false
  }

  /** Never an empty piece. */
  async #next(): Promise<Piece> {
    for (;;) {
      const piece = await this.#read()
      if (piece.done || piece.value.byteLength > 0) {
        this.#size += piece.value?.byteLength ?? 0
        return piece
      }
    }
  }

  async #read(): Promise<Piece> {
    try {
      if (this.#cut) throw this.#cut.reason
      return await new Promise<Piece>((resolve, reject) => {
        this.#failRead = reject
        this.#hooks.waits()
        this.#source.read().then(resolve as (piece: unknown) => void, reject)
      })
    } catch (cause) {
      throw this.#broken(cause)
    } finally {
      this.#failRead = undefined
      this.#hooks.arrived()
    }
  }

  #assertLength(): void {
    const length = this.#length
    if (length !== undefined && length !== this.#size) throw this.#broken(new Error(`${this.#size} bytes came of ${length}`))
  }

  #broken(cause: unknown): unknown {
    const broken = this.#hooks.explain(cause)
    this.#hooks.stop()
    this.#state = { broken }
    this.#chunks = []
    this.#over?.reject(broken)
    return broken
  }

  #part(reader: Reader, reason: unknown): void {
    reader.leave()
    if (!this.#readers.delete(reader) || this.#hasEnded) return
    reader.abandoned()
    if (this.#readers.size > 0) return
    this.#deserted = { reason }
    if (!this.#watcher?.isWanted()) this.#hooks.desert(reason)
  }
}

function noop(): void {}
