import type { LifetimeSource } from '../http/stored-head.js'
import type { Mode } from '../rules/mode.js'
import type { Reason } from './reasons.js'

/** An endpoint that covers all of a request but for one thing. */
export interface NearMiss {
  readonly provider: string
  readonly endpoint: string
  /** The one difference, e.g. `method is POST, not GET`. */
  readonly difference: string
}

/** What a call would do now, and why. */
export interface Explanation {
  readonly provider: string | null
  readonly endpoint: string | null
  readonly nearMisses: readonly NearMiss[]
  readonly mode: Mode
  /** The key, in which credentials are digests; null where there is none. */
  readonly key: string | null
  /** Query parameters that are not in the key's URL, by name: left out by the rule, or credentials. */
  readonly leftOut: readonly string[]
  /** What is stored under the key, or under that of the variant that the request's fields choose. */
  readonly stored: {
    readonly key: string
    readonly storedAt: Date
    /** Since it was made or last confirmed, on its way included (RFC 9111 section 4.2.3). */
    readonly ageMs: number
    readonly freshUntil: Date
    /** What said so: the rule, or which of the upstream's fields. */
    readonly freshBy: 'rule' | LifetimeSource
    /** Until when it may be given out while it is refreshed. */
    readonly refreshableUntil: Date
    /** Until when it may be given out if a refresh fails. */
    readonly usableUntil: Date
    /** Whether the upstream forbids any use past its freshness. */
    readonly mustRevalidate: boolean
    readonly bytes: number
  } | null
  /** What would be done: answered from store (`serve`), sent on (`call`, `pass` where no rule holds) or refused. */
  readonly would: 'serve' | 'call' | 'pass' | 'refuse'
  readonly reason: Reason
  /** The reason in words. */
  readonly because: string
  /** What would block an upstream call now: a limit or a hold-off, and until when as far as is known; null: nothing. */
  readonly blockedBy: {
    readonly why: 'limit-reached' | 'held-off' | 'budget-spent'
    readonly what: string
    readonly until: Date | null
  } | null
  /** Whether an older answer would be given if the upstream call failed. */
  readonly olderAnswerOnFailure: boolean
}
