import type { StoredTimes } from '../decide/entry-times.js'
import type { BillingFacts, Grain, LedgerRow } from '../ledger/ledger-row.js'
import type { Units } from '../rules/units.js'

/** One stored answer. Its answer is written once and never changed; its times may be. */
export interface Entry extends StoredTimes {
  readonly key: string
  readonly provider: string
  readonly endpoint: string
  /** For an HTTP answer its status and header fields as JSON (`StoredHead`); empty for the value of an operation in JSON, `cbor` for one in CBOR. */
  readonly head: string
  /** The body's exact bytes; for an operation, its value as UTF-8 JSON (RFC 8259) or CBOR (RFC 8949). */
  readonly body: Uint8Array
  /** Units that the answer cost when it was fetched, by name, where its endpoint counts any. */
  readonly units?: Units | undefined
  /** A reader's decoded form of this very object; a store that serialises leaves it out. */
  memo?: unknown
}

/** The entries of an endpoint, or those whose key begins with `variantsOf` and a space: the variants of one answer. */
export type EntryGroup = { readonly provider: string; readonly endpoint: string } | { readonly variantsOf: string }

/** A small record that several processes change. */
export interface SharedRecord {
  /** JSON. */
  readonly value: string
  /** When it runs out, milliseconds since 1970-01-01T00:00Z. */
  readonly keepUntil: number
}

/** The stretch of time that is changed together with a moment; `end` exclusive. */
export type LedgerSlice = (at: number) => { readonly start: number; readonly end: number }

/** What a store is opened with. */
export interface Opening {
  /** The opener's time. */
  readonly now: number
  /** Reported of what the user must know, such as a file set aside. */
  readonly warn: (message: string) => void
}

/** The same value now, or a promise of it. Stores that answer at once do, so that nothing waits for them. */
export type Maybe<T> = T | Promise<T>

/**
 * Where entries and the ledger live.
 *
 * Life cycle: `open` is called once before anything else, `close` once after everything else. In between every method may
 * be called at any time, by several processes where the store is shared. A method that cannot do its work throws or
 * rejects; it never returns part of an answer.
 */
export interface Store {
  /** Makes the store ready. Throws `StoreError` with what to do next; may then be called again. */
  open(opening: Opening): Maybe<void>
  /** The entry kept under `key`, whatever its age. A look-up counts as a use of the entry. */
  get(key: string): Maybe<Entry | undefined>
  /** Keeps an entry, in place of the one under the same key. May make room by dropping others. */
  put(entry: Entry): Maybe<void>
  /** Gives the entry under `key` other times, unless another answer than the one stored at `times.storedAt` is there by now. */
  updateTimes(key: string, times: StoredTimes): Maybe<void>
  /**
   * Marks entries as out of date, so that they are given out only once the upstream has confirmed them: those whose key is `prefix`,
   * or begins with it and a space; all where it is empty.
   */
  invalidate(prefix: string, now: number): Maybe<void>
  /** Drops one entry. */
  remove(key: string): Maybe<void>
  /** Drops those entries of a group that were stored longest ago, until `most` are left. Returns how many. */
  trim(group: EntryGroup, most: number): Maybe<number>
  /**
   * Changes the shared record of a name in one step, which no other process can come between. `change` gets its value, if there is one
   * that has not run out at `now`, and returns what takes its place, or undefined to leave it. It may be called again.
   */
  update(name: string, now: number, change: (value: string | undefined) => SharedRecord | undefined): Maybe<void>
  /** The values of shared records whose names begin with `prefix`, by name, without those that have run out at `now`. */
  records(prefix: string, now: number): Maybe<ReadonlyMap<string, string>>
  /** Drops every record that has run out, and every entry that is not worth keeping at `now`. Returns how many entries. */
  sweep(now: number): Maybe<number>
  /** Adds tallies to the ledger: all of the rows or, if it throws, none. Adding is exact under concurrency. */
  addToLedger(rows: readonly LedgerRow[]): Maybe<void>
  /** The ledger's rows, but those that are details, whose bucket begins at `since` or later and before `until`, in no order. */
  readLedger(since: number, until: number): Maybe<LedgerRow[]>
  /** Details of a grain whose bucket begins in that time. */
  readDetails(grain: Grain, since: number, until: number): Maybe<LedgerRow[]>
  /** Drops details of a grain whose bucket begins before `until`. */
  dropDetails(grain: Grain, until: number): Maybe<void>
  /**
   * Takes out the ledger's rows of the next finer grain than `grain`, no details, that belong to the same slice as the oldest of them before
   * `until`, and adds what `change` makes of them, in one step. Returns whether there were any.
   */
  coarsenLedger(until: number, grain: Grain, slice: LedgerSlice, change: (rows: LedgerRow[]) => readonly LedgerRow[]): Maybe<boolean>
  /** Remembers what is known of a provider or endpoint from a time on, unless the newest known of the same says the same. */
  addFacts(facts: BillingFacts): Maybe<void>
  /** Everything remembered by `addFacts`, oldest first. */
  readFacts(): Maybe<BillingFacts[]>
  /** How much is stored. */
  size(): Maybe<{ readonly entries: number; readonly bytes: number }>
  /** Gives back what `open` took. */
  close(): Maybe<void>
}
