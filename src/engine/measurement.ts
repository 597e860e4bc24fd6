import type { Tally } from '../core/ledger/tally.js'
import { digestOf } from '../core/rules/digest.js'

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

  /** Notes an answered upstream call that was asked at `askedAt`; `body` is undefined where the answer would not be stored. */
  answered(key: string, askedAt: number, now: number, freshForMs: number, body: Uint8Array | undefined, tally: Tally): void {
    const seen = this.#seen.get(key)
    if (seen && askedAt < seen.freshUntil) {
      tally.wouldHit++
      return
    }
    this.#seen.delete(key)
    if (!body) return
    const digest = digestOf(body)
    if (seen) tally[seen.digest === digest ? 'unchanged' : 'changed']++
    this.#seen.set(key, { freshUntil: now + freshForMs, digest })
    for (const oldest of this.#seen.keys()) {
      if (this.#seen.size <= mostSeen) break
      this.#seen.delete(oldest)
    }
  }
}
