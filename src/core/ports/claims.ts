import type { Maybe } from './maybe.js'
import { isSelected, type Selection } from './selection.js'

/**
 * The right to ask upstream for the answer of a key and to store it, which one call has at a time among all who share a store. `token` tells it from
 * every other that there ever was: an answer that comes with one which holds no more is not stored (a fencing token).
 */
export interface Claim {
  readonly key: string
  readonly token: string
}

/** Who asks for a claim, and what it saw. */
export interface Claiming {
  readonly key: string
  readonly provider: string
  readonly endpoint: string
  /** Labels that its answer will have; null where only the answer says. Default: none. */
  readonly labels?: readonly string[] | null | undefined
  /** `storedAt` of the entry that was found under the key, if one was. */
  readonly storedAt: number | undefined
  /** Whether the claim is taken whoever holds it, and whatever is stored by now. */
  readonly over: boolean
}

/** Whether a selection means an answer that is on its way. */
export function isClaimSelected(selection: Selection, { labels, ...on }: Omit<Claiming, 'storedAt' | 'over'>): boolean {
  return ('label' in selection && labels === null) || isSelected(selection, { ...on, labels: labels ?? undefined })
}

export type Claimed =
  | { readonly result: 'taken'; readonly claim: Claim }
  /** Another has it. */
  | { readonly result: 'held'; readonly claim: Claim }
  /** Another entry is stored under the key than the one that was seen. */
  | { readonly result: 'changed' }
  /** The store cannot say: each asks for itself. */
  | { readonly result: 'none' }

/**
 * How a claim ended. `over`: whoever waited looks again at what is stored. `not-stored`: what came is not in the store. `for-one`: nor may others have it,
 * so that nobody should wait for the next.
 */
export type ClaimEnd = 'over' | 'not-stored' | 'for-one'

/** How long a claim holds that its process does not extend, milliseconds: stores extend theirs while they can, at least three times as often. */
export const claimMs = 5_000

/** How long it can be seen how a claim ended, milliseconds. */
export const endSeenMs = 10_000

/** What is shown of an answer that arrives by a claim. */
export interface Shown {
  /** Pieces from the one asked for on, in their order; not all of them, where there are many. */
  readonly pieces: readonly Uint8Array[]
  /** Whether whoever shows it has done so within the time that a claim holds. */
  readonly isAlive: boolean
}

/** How long somebody is taken to watch an answer who asked for more of it, milliseconds: ask at least three times as often. */
export const watchedMs = 3_000

/** How long what was shown last can be seen, milliseconds. */
export const shownMs = 60_000

/**
 * Claims on keys, of a store that several processes share. `put` with a claim stores only while that holds, and ends it. Life cycle and errors as for
 * `EntryStore`.
 */
export interface Claims {
  take(claiming: Claiming): Maybe<Claimed>
  /** Ends a claim of this process; does nothing to one that holds no more. */
  end(claim: Claim, how: ClaimEnd): Maybe<void>
  /** How a claim ended; undefined while it holds. One that its process no longer extends, or that was dropped or taken over, is over. */
  look(claim: Claim): Maybe<ClaimEnd | undefined>
  /**
   * Ends the claims on what a selection means: what is on its way there comes too late. Before entries are invalidated or removed; works for what is
   * called after it, whether it is waited for or not.
   */
  drop(selection: Selection): Maybe<void>
  /**
   * Shows those who wait for an answer what has come of it: pieces, numbered from `from` on. It need not hold any more. Returns whether anybody watches; where
   * nobody does nothing is kept. Left out by a store that cannot: then answers are given once they are stored.
   */
  show?(claim: Claim, from: number, pieces: readonly Uint8Array[]): Maybe<boolean>
  /** What is shown of the answer of another's claim, from a piece on; undefined where nothing is, so far or any more. */
  watch?(claim: Claim, from: number): Maybe<Shown | undefined>
}
