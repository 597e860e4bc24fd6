import { decide, type Facts } from '../../core/decide/decide.js'
import { invalidatedTimes, type StoredTimes, slid, timesOf } from '../../core/decide/entry-times.js'
import type { Reason } from '../../core/decide/reasons.js'
import type { Units } from '../../core/money/units.js'
import type { Entry } from '../../core/ports/entry-store.js'
import { digestOf } from '../../core/rules/digest.js'
import { freshFromUseMs } from '../../core/rules/freshness.js'
import type { Call } from '../call/call.js'
import { situationOf } from '../call/situation.js'

/** A call that was measured: what was asked, without credentials, and when, milliseconds since 1970-01-01T00:00Z. */
export interface MeasuredCall {
  readonly request: string
  readonly askedAt: number
}

interface Seen extends MeasuredCall {
  readonly times: StoredTimes
  readonly digest: string
  /** Whether each use makes it fresh for longer, where the rule slides. */
  readonly slides: boolean
}

/** What a measured call came to. `isAnswered`: it was not refused and did not fail, which says nothing of what had changed. */
interface Came extends MeasuredCall {
  readonly isAnswered: boolean
  readonly isBilled: boolean
  /** When it counts, milliseconds since 1970-01-01T00:00Z. */
  readonly countedAt: number
  /** Whether reuse would have made it again, where it failed. */
  readonly mayRepeat: boolean
}

/** The entry that reuse would have stored. */
type Would = StoredTimes & Pick<Entry, 'body'> & { readonly units?: Units | undefined; readonly slides: boolean }

/** Answers remembered at the most, by key. */
const mostSeen = 50_000

/**
 * What reuse would have done, found out while only measuring: remembers of each key the times of the entry that reuse would have stored and
 * a digest of it, decides each call by the same table as reuse does, and counts those that it would have answered from store, those of them
 * whose answer had changed by then, what it would have refreshed and repeated, and how often an answer had changed when it was fetched again.
 */
export class Measurement {
  readonly #seen = new Map<string, Seen>()

  /**
   * Notes a call that has ended; `would` is the entry that reuse would have stored, if any. Returns the earlier call whose answer reuse would
   * have given in place of this one, where that was another.
   */
  ended(call: Call<unknown>, key: string, came: Came, would: Would | undefined): MeasuredCall | undefined {
    const seen = this.#seen.get(key)
    const { isAnswered, isBilled, request, askedAt, countedAt } = came
    const digest = would && digestOf(would.body)
    const tally = call.counter.at(countedAt)
    if (seen && isAnswered && digest !== undefined) tally.compared(askedAt - seen.times.bornAt, digest !== seen.digest)
    // one that was asked for while another was under way would have shared its answer
    const now = Math.max(askedAt, seen?.times.storedAt ?? 0)
    const decision = decide({ ...factsOf(call, now), entry: seen?.times })
    const isServed = decision.do === 'serve' && seen !== undefined
    const isRefreshed = isServed && decision.refresh === true
    if (!isServed && !isAnswered && came.mayRepeat) tally.count(call.countedFor, (its) => void its.wouldRepeat++)
    if (isServed) {
      const isOutdated = isAnswered && digest !== seen.digest
      tally.count(call.countedFor, (its) => its.wouldHaveHit({ units: would?.units, isOutdated, isBilled, isRefreshed }))
      if (!isRefreshed) this.#use(call, key, seen, decision.reason, now)
      if (!isRefreshed || !isAnswered) return isOutdated ? seen : undefined
      this.#remember(key, { request, askedAt }, would, digest)
      return isOutdated ? seen : undefined
    }
    if (!isAnswered && would === undefined) return undefined // what is stored stays
    if (seen && digest !== undefined) tally[seen.digest === digest ? 'unchanged' : 'changed']++
    this.#remember(key, { request, askedAt }, would, digest)
    return undefined
  }

  /** A write was answered: what is stored under a key is out of date. */
  invalidate(under: string, now: number): void {
    for (const [key, seen] of this.#seen)
      if (key === under || key.startsWith(`${under} `)) this.#seen.set(key, { ...seen, times: invalidatedTimes(seen.times, now) })
  }

  #use({ endpoint }: Call<unknown>, key: string, seen: Seen, reason: Reason, now: number): void {
    const { slidingMs, freshness } = endpoint
    if (slidingMs === undefined || reason !== 'fresh' || !seen.slides) return
    this.#seen.set(key, { ...seen, times: slid(seen.times, freshFromUseMs(freshness, key) ?? 0, slidingMs, now) })
  }

  #remember(key: string, call: MeasuredCall, would: Would | undefined, digest: string | undefined): void {
    this.#seen.delete(key)
    if (!would || digest === undefined) return
    this.#seen.set(key, { ...call, times: timesOf(would), digest, slides: would.slides })
    for (const oldest of this.#seen.keys()) {
      if (this.#seen.size <= mostSeen) break
      this.#seen.delete(oldest)
    }
  }
}

/** The facts of a call as reuse would have them while nothing is wrong. */
function factsOf(call: Call<unknown>, now: number): Omit<Facts, 'entry'> {
  const { bypass, excerpt } = call
  return { ...situationOf(call, undefined, now), mode: 'reuse', bypass, excerpt, varied: false, heldOff: false, budget: 'free' }
}
