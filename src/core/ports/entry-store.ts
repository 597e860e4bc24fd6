import type { StoredTimes } from '../decide/entry-times.js'
import type { FoundIn, Layer } from '../decide/layer.js'
import type { Money } from '../money/money.js'
import type { Units } from '../money/units.js'
import type { Claim, Claims } from './claims.js'
import type { Maybe } from './maybe.js'
import type { Selection } from './selection.js'

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
  /** What its plan charges for a call that brings such an answer: so much each use of it saves. Undefined where no price is known. */
  readonly price?: Money | undefined
  /** Names by which it can be selected with others, each once; undefined where it has none. */
  readonly labels?: readonly string[] | undefined
  /** A reader's decoded form of this very object; a store that serialises leaves it out. */
  memo?: unknown
}

/** An entry without its body, as it is listed. */
export interface EntrySummary extends Omit<Entry, 'body' | 'memo'> {
  /** Length of the body. */
  readonly bytes: number
  /** The nearest layer that can give it now, where the store has layers. */
  readonly layer?: Layer | undefined
  /** How it was used, where the store counts that, and it was. */
  readonly usage?: EntryUsage | undefined
}

/** How often an answer was given since it was stored, at the least, and of that without a call that it would have taken; and when it was last, milliseconds since 1970-01-01T00:00Z. */
export interface EntryUsage {
  readonly times: number
  readonly saved: number
  readonly lastAt: number
}

/** A part of a list. `next`: what `after` has to be to continue it, a key unless keys are kept digested; undefined at its end. */
export interface EntryPage {
  readonly entries: readonly EntrySummary[]
  readonly next: string | undefined
}

/** Answers of an endpoint that a store dropped to make room while they were fresh. */
export interface Evicted {
  readonly provider: string
  readonly endpoint: string
  readonly entries: number
}

/** What became of an entry that a store was given, where that is more than that it was kept. */
export interface PutResult {
  /** Why it was not kept: it is larger than all the room there is, its claim holds no more, or the store failed. */
  readonly notKept?: 'too-large' | 'out-of-date' | 'trouble' | undefined
  /** What was dropped for it while it was fresh; see `evictedOf`. */
  readonly evicted?: readonly Evicted[] | undefined
  /** Whether an entry under its key had been dropped to make room, and would still be fresh. */
  readonly wasEvicted?: boolean | undefined
}

/** What a piece of a longer work came to. */
export interface Piece {
  /** Entries that were changed or dropped. */
  readonly entries: number
  /** Where there is more to do, what the next call continues from; undefined at the end. */
  readonly next: string | undefined
}

/** What trimming came to: what was dropped while it was fresh, and whether there is more to do. */
export interface Trimmed {
  readonly evicted: readonly Evicted[]
  readonly more: boolean
}

/** What dropping came to. `more`: whether there is more to do. */
export interface Dropped {
  readonly entries: number
  readonly more: boolean
}

/** How much is stored; `bytes` as the store counts them. */
export interface StoreSize {
  readonly entries: number
  readonly bytes: number
}

/**
 * Where stored answers live, within bounds of the store's own: what is not worth keeping any more (`keepUntil`) stays until the room is
 * needed, for `offline` may need it, and goes first then; next goes what was used least recently. Every method may be called at any time between opening and closing, by several processes where the store is
 * shared. A method that cannot do its work throws or rejects; it never returns part of an answer. What takes long is done in pieces of a few
 * milliseconds, so that calls can come between: whoever wants all of it calls again while there is more to do.
 */
export interface EntryStore {
  /** The entry kept under `key`, whatever its age. A look-up counts as a use of the entry. */
  get(key: string): Maybe<Entry | undefined>
  /** Where an entry was found that `get` returned. Left out by a store without layers. */
  foundIn?(entry: Entry): FoundIn | undefined
  /**
   * An entry was given as an answer that `get` returned; `isSaving`: in place of a call. For lists (`usage`); may be written later, and forgotten. Left out by a store that
   * does not count it.
   */
  given?(entry: Entry, now: number, isSaving: boolean): void
  /** An entry was used of which somebody had a copy. Left out by a store that does not want to know. */
  used?(entry: Entry): void
  /**
   * Keeps an entry, in place of the one under the same key, and drops others where there is no room. Returns undefined where it was kept,
   * nothing fresh was dropped, and nothing fresh under its key had been. With a claim, keeps it only while that holds, in one step where its key is the
   * entry's, and ends the claim.
   */
  put(entry: Entry, now: number, claim?: Claim): Maybe<PutResult | undefined>
  /** Gives the entry under `key` other times, unless another answer than the one stored at `times.storedAt` is there by now. */
  updateTimes(key: string, times: StoredTimes): Maybe<void>
  /**
   * Gives entries the times that `invalidatedTimes` makes of theirs: they are given out only once the upstream has confirmed them. `from`: the
   * `next` of the piece before.
   */
  invalidate(selection: Selection, now: number, from?: string): Maybe<Piece>
  /** Drops entries. */
  remove(selection: Selection): Maybe<Dropped>
  /** Drops all but so many of some entries, those used least recently first. Returns what of them was fresh, as `put` does. */
  trim(selection: Selection, most: number, now: number): Maybe<Trimmed>
  /**
   * Entries in the order of their keys (by UTF-8 bytes), at most `most` (default 100), from the first key after `after` on; in another order where keys are kept
   * digested, and then after what was `next` of the page before.
   */
  list(selection: Selection, page?: { readonly after?: string | undefined; readonly most?: number }): Maybe<EntryPage>
  /** Drops entries that are not worth keeping at `now` (`keepUntil`), before their room is needed. No stash asks for it. */
  sweep(now: number): Maybe<Dropped>
  size(): Maybe<StoreSize>
  /** Left out by a store that one process uses, or that cannot say: then each process calls upstream for itself. */
  readonly claims?: Claims | undefined
}
