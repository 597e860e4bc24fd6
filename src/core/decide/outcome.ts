import type { Money } from '../money/money.js'
import type { Forward } from './decide.js'
import type { NotKept } from './keep.js'
import type { Layer } from './layer.js'
import type { Reason } from './reasons.js'

/** How one call was answered. */
export interface Outcome {
  readonly provider: string
  readonly endpoint: string
  /**
   * `hit`: from store, fresh. `stale`: from store, past its freshness. `collapsed`: by another caller's upstream call, in this process or in one that shares the store.
   * `forwarded`: by an upstream call of its own. `passed`: no endpoint covers the call, it went by untouched. `fallback`: by the
   * endpoint's default. `refused`: with a 504, for only a stored answer was asked for. `failed`: not at all, with an error. `abandoned`:
   * not at all, for its caller left before an answer began.
   */
  readonly how: 'hit' | 'stale' | 'collapsed' | 'forwarded' | 'passed' | 'fallback' | 'refused' | 'failed' | 'abandoned'
  readonly reason: Reason
  /** The label that the call was given. */
  readonly label?: string | undefined
  /** Why the call went forward (RFC 9211 section 2.2), if it did. */
  readonly fwd?: Forward
  /** Status of the upstream's answer, if it was asked and gave one. */
  readonly upstreamStatus?: number
  /**
   * Whether the answer of an upstream call was stored, and if not, why. While its body is still arriving this is what its head
   * promises; it is brought up to date when the body ends.
   */
  readonly stored?: boolean
  readonly notStored?: NotKept | undefined
  /** Upstream calls made for this one, where it took more than one. */
  readonly attempts?: number
  /** How long its caller waited, milliseconds: for a response until its head, else until the value or the error. */
  readonly ms: number
  /** How old the answer is, in milliseconds. */
  readonly ageMs: number
  /** Until when the stored answer is fresh. */
  readonly freshUntil?: Date | undefined
  /** Which layer of a store with layers the answer came from: a copy in this process, or what all share. */
  readonly layer?: Layer
  /** The price of the upstream call made for this caller, where the plan bills it. */
  readonly cost?: Money
  /** The price of the upstream call that this caller did not have to make. */
  readonly saved?: Money
}
