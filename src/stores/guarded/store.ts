import type { Maybe } from '../../core/ports/maybe.js'
import type { Opening, Store, StoreFacts } from '../../core/ports/store.js'
import { GuardedEntries } from './entries.js'
import { Guard, type GuardOptions } from './guard.js'
import { GuardedLedger } from './ledger.js'
import { GuardedRecords } from './records.js'

/**
 * What every store needs around it: a failing look-up is a miss and a failing write is none, so that calls go upstream as if there were
 * no store, and neither takes longer than its time. Trouble is reported once when it begins and once when it is over. Shared records and
 * the ledger fail openly: whoever keeps them knows what to do without.
 */
export function guardedStore(store: Store, options: GuardOptions): GuardedStore {
  return new GuardedStore(store, options)
}

class GuardedStore implements Store {
  readonly entries: GuardedEntries
  readonly records: GuardedRecords
  readonly ledger: GuardedLedger
  readonly memoryBytes: number
  readonly #store: Store
  readonly #guard: Guard
  #closed = false

  constructor(store: Store, options: GuardOptions) {
    this.#store = store
    this.#guard = new Guard(store, options)
    this.memoryBytes = Number(store.memoryBytes) || 0
    this.entries = new GuardedEntries(store.entries, this.#guard)
    this.records = new GuardedRecords(store.records, this.#guard)
    this.ledger = new GuardedLedger(store.ledger, this.#guard)
  }

  open(opening: Opening): Promise<void> {
    return this.#guard.open(opening)
  }

  inspect(): Maybe<StoreFacts | undefined> {
    return this.#guard.read(() => this.#store.inspect?.())
  }

  time(): Maybe<number | undefined> {
    const { time } = this.#store
    return time && this.#guard.isOpen ? this.#guard.read(() => time.call(this.#store)) : undefined
  }

  /** What is wrong with the store, if anything is. */
  get trouble(): string | undefined {
    return this.#guard.trouble
  }

  /** Has a store that is left alone be tried again at once. */
  tryAgain(): void {
    this.#guard.tryAgain()
  }

  close(): Maybe<void> {
    if (this.#closed) return
    this.#closed = true
    return this.#guard.close()
  }
}
