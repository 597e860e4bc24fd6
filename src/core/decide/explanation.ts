import type { Mode } from './mode.js'
import type { Reason } from './reasons.js'

/** An endpoint that covers all of a request but for one thing. */
export interface NearMiss {
  readonly provider: string
  readonly endpoint: string
  /** The one difference, e.g. `method is POST, not GET`. */
  readonly difference: string
}

/** What a call would do now, and why. Times are milliseconds since 1970-01-01T00:00Z. */
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
    readonly storedAt: number
    readonly ageMs: number
    readonly freshUntil: number
    readonly usableUntil: number
    readonly bytes: number
  } | null
  /** What would be done: answered from store (`serve`), sent on (`call`, `pass` where no rule holds) or refused. */
  readonly would: 'serve' | 'call' | 'pass' | 'refuse'
  readonly reason: Reason
  /** The reason in words. */
  readonly because: string
  /** Whether an older answer would be given if the upstream call failed. */
  readonly olderAnswerOnFailure: boolean
}
