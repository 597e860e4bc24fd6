import { StoreError } from '../../core/errors/setup-errors.js'
import { StashenError } from '../../core/errors/stashen-error.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Entry } from '../../core/ports/entry-store.js'
import type { Maybe } from '../../core/ports/maybe.js'
import type { Opening, Store } from '../../core/ports/store.js'
import { StorePart, type TroubleListener } from './store-part.js'

export interface GuardOptions extends TroubleListener {
  readonly clock: Clock
  /** How long the store may take for one thing, milliseconds. */
  readonly timeLimitMs: number
  /** Whether a store that cannot be opened is tried again later, while calls go on without it. */
  readonly openWithout: boolean
  /** Called with an entry that is none. */
  readonly corrupt: (entry: Entry, key: string, error: unknown) => void
}

/** Whatever a store threw, as the error that opening ends in. */
function openingError(cause: unknown): StashenError {
  if (cause instanceof StashenError) return cause
  const why = cause instanceof Error ? cause.message : String(cause)
  return new StoreError(`the store cannot be opened: ${why}`, { cause })
}

const unreadable = 'the store cannot be read, calls go upstream until it can'
const unwritable =
  'the store cannot be written: until it can, answers are not kept, counts wait in memory, and limits hold for this process alone'

/** Does all work on a store: in bounded time, opening it late where it could not be opened at once, and reporting trouble once an episode. */
export class Guard {
  readonly options: GuardOptions
  readonly reading: StorePart
  readonly #writing: StorePart
  readonly #store: Store
  /** What it is to be opened with, while it is not open. */
  #opening: Opening | undefined
  #opens: Promise<void> | undefined

  constructor(store: Store, options: GuardOptions) {
    const { clock, timeLimitMs } = options
    this.#store = store
    this.options = options
    this.reading = new StorePart(clock, timeLimitMs, unreadable, options)
    this.#writing = new StorePart(clock, timeLimitMs, unwritable, options)
  }

  async open(opening: Opening): Promise<void> {
    try {
      await this.#store.open(opening)
    } catch (error) {
      if (!this.options.openWithout) throw openingError(error)
      this.#opening = opening
      this.#writing.failed(error)
    }
  }

  get isOpen(): boolean {
    return this.#opening === undefined
  }

  /** Reads; throws, or rejects with, what goes wrong. */
  read<T>(work: () => Maybe<T>): Maybe<T> {
    return this.#do(this.reading, work)
  }

  /** Writes; throws, or rejects with, what goes wrong. */
  write<T>(work: () => Maybe<T>): Maybe<T> {
    return this.#do(this.#writing, work)
  }

  /** Writes what the store may also lose: a failure is reported, and changes nothing. */
  attempt<T>(work: () => Maybe<T>, instead: T): Maybe<T> {
    try {
      const done = this.write(work)
      return done instanceof Promise ? done.catch(() => instead) : done
    } catch {
      return instead
    }
  }

  /** As `attempt`, of what is not worth opening the store for. */
  attemptIfOpen<T>(work: () => Maybe<T>, instead: T): Maybe<T> {
    return this.isOpen ? this.attempt(work, instead) : instead
  }

  /** What is wrong with the store, if anything is. */
  get trouble(): string | undefined {
    return this.reading.trouble ?? this.#writing.trouble
  }

  /** Has a store that is left alone be tried again at once. */
  tryAgain(): void {
    this.reading.tryAgain()
    this.#writing.tryAgain()
  }

  /** Closes the store if it is open, or about to be: in bounded time, also while it is left alone. What goes wrong is reported. */
  close(): Maybe<void> {
    if (this.#opens) return this.#opens.then(() => this.close()).catch(() => undefined)
    if (!this.isOpen) return
    this.#writing.tryAgain()
    return this.attempt(() => this.#store.close(), undefined)
  }

  #do<T>(part: StorePart, work: () => Maybe<T>): Maybe<T> {
    return this.#opening === undefined ? part.do(work) : this.#openLate().then(() => part.do(work))
  }

  /** Once for all who wait for it. */
  #openLate(): Promise<void> {
    if (this.#opens) return this.#opens
    const opens = this.#openNow().finally(() => {
      this.#opens = undefined
    })
    this.#opens = opens
    return opens
  }

  async #openNow(): Promise<void> {
    await this.#writing.do(async () => this.#store.open(this.#opening as Opening))
    this.#opening = undefined
  }
}
