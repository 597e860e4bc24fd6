import type { StoredTimes } from '../../core/decide/entry-times.js'
import type { BillingFacts, LedgerRow } from '../../core/ledger/ledger-row.js'
import { OncePerEpisode } from '../../core/once-per-episode.js'
import type { Entry, Maybe, Store } from '../../core/ports/store.js'

/**
 * What every store needs around it: a failing look-up is a miss and a failing write is none, so that calls go upstream as if
 * there were no store. Trouble is said once when it begins. The ledger fails openly: whoever writes it keeps what was not taken.
 */
export function guardedStore(store: Store, warn: (message: string) => void): Store {
  return new GuardedStore(store, warn)
}

class GuardedStore implements Store {
  readonly #store: Store
  readonly #reading: OncePerEpisode
  readonly #writing: OncePerEpisode
  #closed = false

  constructor(store: Store, warn: (message: string) => void) {
    this.#store = store
    this.#reading = new OncePerEpisode(warn)
    this.#writing = new OncePerEpisode(warn)
  }

  open(now: number): Maybe<void> {
    return this.#store.open(now)
  }

  get(key: string): Maybe<Entry | undefined> {
    return attempt(() => this.#store.get(key), undefined, this.#reading, 'the store cannot be read, calls go upstream until it can')
  }

  put(entry: Entry): Maybe<void> {
    return attempt(() => this.#store.put(entry), undefined, this.#writing, unwritable)
  }

  retime(key: string, times: StoredTimes): Maybe<void> {
    return attempt(() => this.#store.retime(key, times), undefined, this.#writing, unwritable)
  }

  outdate(prefix: string, now: number): Maybe<void> {
    return attempt(() => this.#store.outdate(prefix, now), undefined, this.#writing, unwritable)
  }

  sweep(now: number): Maybe<number> {
    return attempt(() => this.#store.sweep(now), 0, this.#writing, unwritable)
  }

  addToLedger(rows: readonly LedgerRow[]): Maybe<void> {
    return this.#store.addToLedger(rows)
  }

  readLedger(since: number, until: number): Maybe<LedgerRow[]> {
    return this.#store.readLedger(since, until)
  }

  addFacts(facts: BillingFacts): Maybe<void> {
    return attempt(() => this.#store.addFacts(facts), undefined, this.#writing, unwritable)
  }

  readFacts(): Maybe<BillingFacts[]> {
    return this.#store.readFacts()
  }

  close(): Maybe<void> {
    if (this.#closed) return
    this.#closed = true
    return this.#store.close()
  }
}

const unwritable = 'the store cannot be written, answers are not kept until it can'

function attempt<T>(work: () => Maybe<T>, instead: T, episode: OncePerEpisode, trouble: string): Maybe<T> {
  const spare = (cause: unknown): T => {
    episode.trouble(trouble, cause)
    return instead
  }
  try {
    const done = work()
    if (done instanceof Promise) {
      return done.then((result) => {
        episode.fine()
        return result
      }, spare)
    }
    episode.fine()
    return done
  } catch (cause) {
    return spare(cause)
  }
}
