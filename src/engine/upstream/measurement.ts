import type { Tally } from '../../core/ledger/tally.js'
import type { Entry } from '../../core/ports/entry-store.js'
import { digestOf } from '../../core/rules/digest.js'

interface Seen {
  readonly freshUntil: number
  readonly digest: string
}

/** Answers remembered at the most, by key. */
const mostSeen = 10_000

/**
 * What reuse would have done, found out while only measuring: remembers of each key when its answer would have stopped being fresh
 * and a digest of it, and counts the calls that reuse would have answered from store, and how often an answer had changed when it
 * would have been fetched again.
 */
export class Measurement {
  readonly #seen = new Map<string, Seen>()

  /** Notes an answered upstream call that was asked at `askedAt`; `would` is the entry that reuse would have stored, if any. */
  answered(key: string, askedAt: number, would: Pick<Entry, 'freshUntil' | 'body'> | undefined, tally: Tally): void {
    const seen = this.#seen.get(key)
    if (seen && askedAt < seen.freshUntil) {
      tally.wouldHit++
      return
    }
    this.#seen.delete(key)
    if (!would) return
    const digest = digestOf(would.body)
    if (seen) tally[seen.digest === digest ? 'unchanged' : 'changed']++
    this.#seen.set(key, { freshUntil: would.freshUntil, digest })
    for (const oldest of this.#seen.keys()) {
      if (this.#seen.size <= mostSeen) break
      this.#seen.delete(oldest)
    }
  }
}
