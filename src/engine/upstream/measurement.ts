import { decide, type Facts } from '../../core/decide/decide.js'
import { type StoredTimes, slid, timesOf } from '../../core/decide/entry-times.js'
import type { Reason } from '../../core/decide/reasons.js'
import type { Seen } from '../../core/entries/measured-entry.js'
import type { Units } from '../../core/money/units.js'
import type { Clock } from '../../core/ports/clock.js'
import type { Entry, EntryStore } from '../../core/ports/entry-store.js'
import type { Maybe } from '../../core/ports/maybe.js'
import type { Selection } from '../../core/ports/selection.js'
import { digestOf } from '../../core/rules/digest.js'
import { freshFromUseMs } from '../../core/rules/freshness.js'
import type { Call } from '../call/call.js'
import { situationOf } from '../call/situation.js'
import { SeenAnswers } from './seen-answers.js'

/** A call that was measured: what was asked, without credentials, and when, milliseconds since 1970-01-01T00:00Z. */
export interface MeasuredCall {
  readonly request: string
  readonly askedAt: number
}

/** What a measured call came to. `isAnswered`: it was not refused and did not fail, which says nothing of what had changed. */
interface Came extends MeasuredCall {
  readonly isAnswered: boolean
  readonly isBilled: boolean
  readonly endedAt: number
  /** When it counts, milliseconds since 1970-01-01T00:00Z. */
  readonly countedAt: number
  /** Whether reuse would have made it again, where it failed. */
  readonly mayRepeat: boolean
}

/** The entry that reuse would have stored. */
type Would = StoredTimes & Pick<Entry, 'body' | 'labels'> & { readonly units?: Units | undefined; readonly slides: boolean }

/**
 * What reuse would have done, found out while only measuring: remembers of each key the times of the entry that reuse would have stored and
 * a digest of it, decides each call by the same table as reuse does, and counts those that it would have answered from store, those of them
 * whose answer had changed by then, what it would have refreshed and repeated, and how often an answer had changed when it was fetched again.
 */
export class Measurement {
  readonly #seen: SeenAnswers

  constructor(entries: EntryStore, clock: Clock) {
    this.#seen = new SeenAnswers(entries, clock)
  }

  /**
   * Notes a call that has ended; `would` is the entry that reuse would have stored, if any. Returns the earlier call whose answer reuse would
   * have given in place of this one, where that was another. At once where the store answers at once.
   */
  ended(call: Call<unknown>, key: string, came: Came, would: Would | undefined): Maybe<MeasuredCall | undefined> {
    const seen = this.#seen.find(key)
    return seen instanceof Promise
      ? seen.then((one) => this.#ended(call, key, came, would, one))
      : this.#ended(call, key, came, would, seen)
  }

  #ended(call: Call<unknown>, key: string, came: Came, would: Would | undefined, seen: Seen | undefined): Maybe<MeasuredCall | undefined> {
    const { isAnswered, isBilled, askedAt, endedAt, countedAt } = came
    const digest = would && digestOf(would.body)
    const tally = call.counter.at(countedAt)
    if (seen && isAnswered && digest !== undefined) tally.compared(askedAt - seen.times.bornAt, digest !== seen.digest)
    // one that was asked for while another was under way would have shared its answer; not where the clock was set back since
    const shares = seen !== undefined && askedAt < seen.times.storedAt && endedAt >= seen.askedAt
    const now = shares ? seen.times.storedAt : askedAt
    const decision = decide({ ...factsOf(call, now), entry: seen?.times })
    if (decision.do === 'serve' && seen) {
      const isRefreshed = decision.refresh === true
      const isOutdated = isAnswered && digest !== seen.digest
      tally.count(call.countedFor, (its) => its.wouldHaveHit({ units: would?.units, isOutdated, isBilled, isRefreshed }))
      const kept = !isRefreshed
        ? this.#use(call, key, seen, decision.reason, now)
        : isAnswered
          ? this.#remember(call, key, came, would, digest)
          : undefined
      const given = isOutdated ? seen : undefined
      return kept instanceof Promise ? kept.then(() => given) : given
    }
    if (!isAnswered && came.mayRepeat) tally.count(call.countedFor, (its) => void its.wouldRepeat++)
    if (!isAnswered && would === undefined) return undefined // what is stored stays
    if (seen && digest !== undefined) tally[seen.digest === digest ? 'unchanged' : 'changed']++
    const kept = this.#remember(call, key, came, would, digest)
    return kept instanceof Promise ? kept.then(() => undefined) : undefined
  }

  /** A write was answered: what a selection means is out of date. */
  invalidate(selection: Selection, now: number): Maybe<void> {
    return this.#seen.invalidate(selection, now)
  }

  #use({ endpoint }: Call<unknown>, key: string, seen: Seen, reason: Reason, now: number): Maybe<unknown> {
    const { slidingMs, freshness, provider, name } = endpoint
    if (slidingMs === undefined || reason !== 'fresh' || !seen.slides) return undefined
    const times = slid(seen.times, freshFromUseMs(freshness, key) ?? 0, slidingMs, now)
    return this.#seen.keep({ provider, endpoint: name }, key, { ...seen, times }, now)
  }

  #remember(
    { endpoint: { provider, name } }: Call<unknown>,
    key: string,
    { request, askedAt, countedAt }: Came,
    would: Would | undefined,
    digest: string | undefined,
  ): Maybe<unknown> {
    if (!would || digest === undefined) return this.#seen.forget(key)
    const seen = { request, askedAt, times: timesOf(would), digest, slides: would.slides, labels: would.labels }
    return this.#seen.keep({ provider, endpoint: name }, key, seen, countedAt)
  }
}

/** The facts of a call as reuse would have them while nothing is wrong. */
function factsOf(call: Call<unknown>, now: number): Omit<Facts, 'entry'> {
  const { bypass, excerpt } = call
  return { ...situationOf(call, undefined, now), mode: 'reuse', bypass, excerpt, varied: false, heldOff: false, budget: 'free' }
}
