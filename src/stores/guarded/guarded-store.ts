import type { StoredTimes } from '../../core/decide/entry-times.js'
import type { BillingFacts, LedgerRow } from '../../core/ledger/ledger-row.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Entry, EntryGroup, Maybe, Opening, SharedRecord, Store } from '../../core/ports/store.js'
import { soundness } from './soundness.js'
import { StorePart, type TroubleTold } from './store-part.js'

export interface Guarding extends TroubleTold {
  readonly clock: Clock
  /** How long the store may take for one thing, milliseconds. */
  readonly timeLimitMs: number
  /** Whether a store that cannot be opened is tried again later, while calls go on without it. */
  readonly openWithout: boolean
  /** Reported of an entry that is none. */
  readonly corrupt: (entry: Entry, key: string, error: unknown) => void
}

/**
 * What every store needs around it: a failing look-up is a miss and a failing write is none, so that calls go upstream as if there were
 * no store, and neither takes longer than its time. Trouble is told once when it begins and once when it is over. What is shared among
 * processes and the ledger fail openly: whoever keeps them knows what to do without.
 */
export function guardedStore(store: Store, guarding: Guarding): GuardedStore {
  return new GuardedStore(store, guarding)
}

/** Marks that a failing store did not take, at the most; with more, nothing stored before is given out. */
const mostUntold = 10_000

export class GuardedStore implements Store {
  readonly #store: Store
  readonly #guarding: Guarding
  readonly #reading: StorePart
  readonly #writing: StorePart
  #opening: Opening | undefined
  /** While it is being opened late. */
  #opens: Promise<void> | undefined
  #closed = false
  /** Keys, and beginnings of keys, that were marked out of date while the store could not be told, with when. */
  readonly #untold = new Map<string, number>()

  constructor(store: Store, guarding: Guarding) {
    const { clock, timeLimitMs } = guarding
    this.#store = store
    this.#guarding = guarding
    this.#reading = new StorePart(clock, timeLimitMs, 'the store cannot be read, calls go upstream until it can', guarding)
    this.#writing = new StorePart(clock, timeLimitMs, unwritable, guarding)
  }

  async open(opening: Opening): Promise<void> {
    try {
      await this.#store.open(opening)
    } catch (error) {
      if (!this.#guarding.openWithout) throw error
      this.#opening = opening
      this.#writing.failed(error)
    }
  }

  get(key: string): Maybe<Entry | undefined> {
    if (this.#careful || this.#reading.trouble !== undefined) return this.#getWithCare(key)
    let found: Maybe<Entry | undefined>
    try {
      found = this.#store.get(key)
    } catch (error) {
      this.#reading.failed(error)
      return undefined
    }
    if (found instanceof Promise) return this.#soundInTime(key, found)
    return found === undefined || (found.memo !== undefined && found.key === key) ? found : this.#sound(key, found) // a memo: read before
  }

  /** Whether something has to be done before the store may be read. */
  get #careful(): boolean {
    return this.#opening !== undefined || this.#untold.size > 0
  }

  async #soundInTime(key: string, found: Promise<Entry | undefined>): Promise<Entry | undefined> {
    return this.#sound(key, await this.#reading.attempt(() => found, undefined))
  }

  put(entry: Entry): Maybe<void> {
    return this.#write(() => this.#store.put(entry))
  }

  updateTimes(key: string, times: StoredTimes): Maybe<void> {
    return this.#write(() => this.#store.updateTimes(key, times))
  }

  /** What the store cannot be told is kept, and counts for what is read, until it can. */
  invalidate(prefix: string, now: number): Maybe<void> {
    const keep = () => void this.#untold.set(this.#untold.size < mostUntold ? prefix : '', now)
    try {
      const done = this.#open(this.#writing, () => this.#store.invalidate(prefix, now))
      return done instanceof Promise ? done.catch(keep) : done
    } catch {
      keep()
    }
  }

  remove(key: string): Maybe<void> {
    return this.#write(() => this.#store.remove(key))
  }

  trim(group: EntryGroup, most: number): Maybe<number> {
    return this.#opening ? 0 : this.#writing.attempt(() => this.#store.trim(group, most), 0)
  }

  update(name: string, now: number, change: (value: string | undefined) => SharedRecord | undefined): Maybe<void> {
    return this.#open(this.#writing, () => this.#store.update(name, now, change))
  }

  records(prefix: string, now: number): Maybe<ReadonlyMap<string, string>> {
    return this.#open(this.#reading, () => this.#store.records(prefix, now))
  }

  sweep(now: number): Maybe<number> {
    return this.#opening ? 0 : this.#writing.attempt(() => this.#store.sweep(now), 0)
  }

  addToLedger(rows: readonly LedgerRow[]): Maybe<void> {
    return this.#open(this.#writing, () => this.#store.addToLedger(rows))
  }

  readDetails(...args: Parameters<Store['readDetails']>): Maybe<LedgerRow[]> {
    return this.#open(this.#reading, () => this.#store.readDetails(...args))
  }

  dropDetails(...args: Parameters<Store['dropDetails']>): Maybe<void> {
    return this.#open(this.#writing, () => this.#store.dropDetails(...args))
  }

  coarsenLedger(...args: Parameters<Store['coarsenLedger']>): Maybe<boolean> {
    return this.#open(this.#writing, () => this.#store.coarsenLedger(...args))
  }

  readLedger(since: number, until: number): Maybe<LedgerRow[]> {
    return this.#open(this.#reading, () => this.#store.readLedger(since, until))
  }

  addFacts(facts: BillingFacts): Maybe<void> {
    return this.#write(() => this.#store.addFacts(facts))
  }

  readFacts(): Maybe<BillingFacts[]> {
    return this.#open(this.#reading, () => this.#store.readFacts())
  }

  size(): Maybe<{ readonly entries: number; readonly bytes: number }> {
    return this.#open(this.#reading, () => this.#store.size())
  }

  /** What is wrong with the store, if anything is. */
  get trouble(): string | undefined {
    return this.#reading.trouble ?? this.#writing.trouble
  }

  /** Has a store that is left alone be tried again at once. */
  tryAgain(): void {
    this.#reading.tryAgain()
    this.#writing.tryAgain()
  }

  close(): Maybe<void> {
    if (this.#closed) return
    this.#closed = true
    if (!this.#opening) return this.#store.close()
  }

  #write(work: () => Maybe<void>): Maybe<void> {
    try {
      const done = this.#open(this.#writing, work)
      return done instanceof Promise ? done.catch(() => undefined) : done
    } catch {
      // told by the part
    }
  }

  /** Does work on a store that was opened, or can be now. */
  #open<T>(part: StorePart, work: () => Maybe<T>): Maybe<T> {
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

  async #getWithCare(key: string): Promise<Entry | undefined> {
    if (this.#untold.size > 0) await this.#tellOutdated()
    const covered = [...this.#untold.keys()].some((prefix) => prefix === '' || key === prefix || key.startsWith(`${prefix} `))
    if (covered) return undefined
    try {
      return this.#sound(key, await this.#open(this.#reading, () => this.#store.get(key)))
    } catch {
      return undefined
    }
  }

  async #tellOutdated(): Promise<void> {
    for (const [prefix, at] of [...this.#untold]) {
      try {
        await this.#open(this.#writing, () => this.#store.invalidate(prefix, at))
        this.#untold.delete(prefix)
      } catch {
        return
      }
    }
  }

  /** An entry that is one, else none: what is none is dropped. */
  #sound(key: string, entry: Entry | undefined): Entry | undefined {
    if (entry === undefined) return undefined
    const fault = soundness(key, entry)
    if (fault === undefined) return entry
    this.#guarding.corrupt(entry, key, new TypeError(fault))
    void this.remove(key)
    return undefined
  }
}

const unwritable =
  'the store cannot be written: until it can, answers are not kept, counts wait in memory, and limits hold for this process alone'
