import type { StoredTimes } from '../decide/entry-times.js'
import type { Units } from '../money/units.js'
import type { Maybe } from './maybe.js'

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

/** An entry without its body, as it is listed. */
export interface EntrySummary extends Omit<Entry, 'body' | 'memo'> {
  /** Length of the body. */
  readonly bytes: number
}

/** Which entries are meant. */
export type Selection =
  | { readonly key: string }
  /** The entry under this key, and all whose key begins with it and a space: the variants of one answer, and of its callers. */
  | { readonly under: string }
  /** Those of an endpoint, or of all endpoints of a provider. */
  | { readonly provider: string; readonly endpoint?: string }
  | { readonly all: true }

/** A part of a list. `next`: what `after` has to be to continue it; undefined at its end. */
export interface EntryPage {
  readonly entries: readonly EntrySummary[]
  readonly next: string | undefined
}

/** How much is stored; `bytes` as the store counts them. */
export interface StoreSize {
  readonly entries: number
  readonly bytes: number
}

/**
 * Where stored answers live. Every method may be called at any time between opening and closing, by several processes where the store is
 * shared. A method that cannot do its work throws or rejects; it never returns part of an answer.
 */
export interface EntryStore {
  /** The entry kept under `key`, whatever its age. A look-up counts as a use of the entry. */
  get(key: string): Maybe<Entry | undefined>
  /** Keeps an entry, in place of the one under the same key. May make room by dropping others. */
  put(entry: Entry): Maybe<void>
  /** Gives the entry under `key` other times, unless another answer than the one stored at `times.storedAt` is there by now. */
  updateTimes(key: string, times: StoredTimes): Maybe<void>
  /** Gives entries the times that `invalidatedTimes` makes of theirs: they are given out only once the upstream has confirmed them. */
  invalidate(selection: Selection, now: number): Maybe<void>
  /** Drops entries, but those of them that were stored last, as many as `keepNewest` says (default 0). Returns how many. */
  remove(selection: Selection, keepNewest?: number): Maybe<number>
  /** Entries in the order of their keys (by UTF-8 bytes), at most `most` (default 100), from the first key after `after` on. */
  list(selection: Selection, page?: { readonly after?: string | undefined; readonly most?: number }): Maybe<EntryPage>
  /** Drops every entry that is not worth keeping at `now` (`keepUntil`). Returns how many. */
  sweep(now: number): Maybe<number>
  size(): Maybe<StoreSize>
}
