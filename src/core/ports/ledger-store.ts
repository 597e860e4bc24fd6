import type { BillingFacts, Grain, LedgerAccount, LedgerRow } from '../ledger/ledger-row.js'
import type { Maybe } from './maybe.js'

/** Which rows of the ledger are meant: those whose bucket begins at `since` or later and before `until`. */
export interface LedgerSpan {
  readonly since: number
  readonly until: number
  /** Only those of a grain. Default: all. */
  readonly grain?: Grain | undefined
  /** Those kept as details of longer buckets, in place of those that are not. Default false. */
  readonly details?: boolean
  /** Only those of an account. Default: those of all. */
  readonly of?: LedgerAccount | undefined
  /** At most so many, the oldest of them. Default: all. */
  readonly most?: number
}

/** Which batch of rows some are, by whom: numbers rise from 1 on. */
export interface LedgerBatch {
  readonly writer: string
  readonly number: number
}

/** Where the ledger lives. Rows are plain data. Life cycle and errors as for `EntryStore`. */
export interface LedgerStore {
  /**
   * Adds rows: all of them or, if it throws, none. The tally of a row is added, by `sumTallies`, to that of the row with the same bucket,
   * grain, `isDetail`, mode, provider and endpoint, where there is one. Adding is exact under concurrency.
   *
   * A batch whose writer did not hear that it was added comes again. A store that answers with promises adds it once: nothing, where it has added
   * this or a later batch of the writer's.
   */
  add(rows: readonly LedgerRow[], batch?: LedgerBatch): Maybe<void>
  /**
   * Adds rows while the process or the page ends, when nothing can be waited for any more; the batch may come again through `add`. Left out by a store
   * whose `add` does it at once, and by one that cannot.
   */
  addLast?(rows: readonly LedgerRow[], batch: LedgerBatch): void
  /** Whose rows there are. */
  accounts(): Maybe<LedgerAccount[]>
  /** Rows in no order; those of one account as they were at one moment. */
  read(span: LedgerSpan): Maybe<LedgerRow[]>
  /** Takes rows out that are as they were read, and adds others, in one step. Returns false, with nothing done, where one has changed since. */
  replace(olds: readonly LedgerRow[], news: readonly LedgerRow[]): Maybe<boolean>
  /** Drops rows, as many as a few milliseconds allow. Returns whether there are more. */
  drop(span: LedgerSpan): Maybe<boolean>
  /** Remembers what is known of a provider or endpoint from a time on, unless the newest known of the same says the same (`areFactsKnown`). */
  addFacts(facts: BillingFacts): Maybe<void>
  /** Everything remembered by `addFacts`, oldest first. */
  facts(): Maybe<BillingFacts[]>
}
