import type { Tally } from '../../core/ledger/tally.js'
import type { Units } from '../../core/money/units.js'
import type { Entry } from '../../core/ports/entry-store.js'
import { digestOf } from '../../core/rules/digest.js'

/** A call that was measured: what was asked, without credentials, and when, milliseconds since 1970-01-01T00:00Z. */
export interface MeasuredCall {
  readonly request: string
  readonly askedAt: number
}

interface Seen extends MeasuredCall {
  readonly freshUntil: number
  readonly digest: string
}

/** Answers remembered at the most, by key. */
const mostSeen = 10_000

/**
 * What reuse would have done, found out while only measuring: remembers of each key when its answer would have stopped being fresh
 * and a digest of it, and counts the calls that reuse would have answered from store, those of them whose answer had changed by then, and how
 * often an answer had changed when it would have been fetched again.
 */
export class Measurement {
  readonly #seen = new Map<string, Seen>()

  /**
   * Notes an upstream call that was answered: `isAnswered`, if it was not refused and did not fail, which says nothing of what had changed;
   * `would` is the entry that reuse would have stored, if any. Returns the earlier call whose answer reuse
   * would have given in place of this one, where that was another.
   */
  answered(
    key: string,
    { isAnswered, ...call }: MeasuredCall & { readonly isAnswered: boolean },
    would: (Pick<Entry, 'freshUntil' | 'body'> & { readonly units?: Units | undefined }) | undefined,
    tally: Tally,
  ): MeasuredCall | undefined {
    const seen = this.#seen.get(key)
    const digest = would && digestOf(would.body)
    if (seen && call.askedAt < seen.freshUntil) {
      const isOutdated = isAnswered && digest !== seen.digest
      tally.wouldHaveHit(would?.units, isOutdated)
      return isOutdated ? seen : undefined
    }
    this.#seen.delete(key)
    if (!would || digest === undefined) return undefined
    if (seen) tally[seen.digest === digest ? 'unchanged' : 'changed']++
    this.#seen.set(key, { ...call, freshUntil: would.freshUntil, digest })
    for (const oldest of this.#seen.keys()) {
      if (this.#seen.size <= mostSeen) break
      this.#seen.delete(oldest)
    }
    return undefined
  }
}
