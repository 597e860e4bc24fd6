import type { EntryStore } from './entry-store.js'
import type { LedgerStore } from './ledger-store.js'
import type { Maybe } from './maybe.js'
import type { Selection } from './selection.js'
import type { SharedRecords } from './shared-records.js'

/** What a store is opened with. */
export interface Opening {
  /** The opener's time, milliseconds since 1970-01-01T00:00Z. */
  readonly now: number
  /** Called with what the user must know, such as a file set aside. */
  readonly warn: (message: string) => void
}

/** What a store says of what it is on. */
export interface StoreFacts {
  /** Its name and version, e.g. `Redis 7.0.15`. */
  readonly on: string
  /** Whether it takes now what is written. */
  readonly isWritable: boolean
  /** The time by its own clock, milliseconds since 1970-01-01T00:00Z; left out where that is this machine's. */
  readonly now?: number
  /** Its policy of dropping keys when it is full, where that may take limits and counts. */
  readonly drops?: string | undefined
}

/**
 * Where a stash keeps everything: three parts, each usable alone.
 *
 * Life cycle: `open` is called once before anything else, `close` once after everything else. `docs/stores.md` says what an adapter has to
 * hold to, and `stashen/testing` tests it.
 */
export interface Store {
  readonly entries: EntryStore
  readonly records: SharedRecords
  readonly ledger: LedgerStore
  /** The most that it keeps in the memory of this process, bytes: a stash remembers requests in a 25th of that. Default: little. */
  readonly memoryBytes?: number | undefined
  /** Makes the store ready. Throws `StoreError` with what to do next; may then be called again. */
  open(opening: Opening): Maybe<void>
  /**
   * Tells what changes from now on of the entries that all who share the store see, by whomever, within a second: at the least of what was replaced,
   * changed or dropped, and of all where messages may have been lost. Returns what ends that. Left out by a store that cannot.
   */
  onChange?(changed: (selection: Selection) => void): Maybe<() => Maybe<void>>
  /**
   * The time of its server, milliseconds since 1970-01-01T00:00Z: limits, quotas and budgets go by it, so that machines whose clocks differ agree. Left out by a store
   * whose processes share a clock; undefined where it cannot say.
   */
  time?(): Maybe<number | undefined>
  /** Asks what it is on, and how that does; undefined, or left out, where it is on nothing. */
  inspect?(): Maybe<StoreFacts | undefined>
  /** Gives back what `open` took. */
  close(): Maybe<void>
}
