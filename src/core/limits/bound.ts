import type { Ending } from '../money/billed-calls.js'
import type { Units } from '../money/units.js'
import type { Spending } from './budget.js'
import type { ClockChange } from './clock-change.js'
import type { HoldOffRule } from './hold-off.js'
import type { Limit } from './limit.js'
import type { RoomAgain } from './limit-state.js'
import type { ProviderState } from './provider-state.js'

/** A call to a provider, as what bounds it sees it. */
export interface BoundCall {
  readonly endpoint: string
  /** What is held off where it fails: its endpoint, or one path of an endpoint that covers many. */
  readonly holdOffScope: string
  /** Those of the provider and of the endpoint. */
  readonly limits: readonly Limit[]
  /** Where its provider has budgets. */
  readonly spending?: Spending | undefined
  readonly holdOff: HoldOffRule
  /** How long a pause that the provider asks for is believed, milliseconds; undefined: as long as usual. */
  readonly believeUpToMs?: number | undefined
  readonly inBackground: boolean
  /** How long nothing may be heard of it before it is taken to have ended, milliseconds. */
  readonly leaseMs: number
}

/** What is known of a call that was let through. Moments are milliseconds since 1970-01-01T00:00Z. */
export interface PermitFacts {
  readonly began: number
  /** Nothing heard of it by then, it is taken to have ended: what it was counted with when it began. */
  readonly until: number
  /** Calls that had ended when it began. */
  readonly endedBefore: number
  /** The most that it can cost besides its place among the plan's calls: one decimal a budget. */
  readonly own?: readonly string[]
}

/** How a call ended: `left` where its callers had gone before. */
export interface CallEnd {
  /** Undefined where what it came to was reported before, when its head arrived. */
  readonly how?: 'answered' | 'refused' | 'failed' | 'left' | undefined
  readonly at: number
  /** Whether a refusal said when to come back. */
  readonly saidWhen?: boolean
  /** What went wrong, for people; no secrets. */
  readonly what?: string | undefined
  /** What the provider's bill says of it, where that is known; else it is billed like an answer. */
  readonly ending?: Ending | undefined
  readonly units?: Units | undefined
  /** Units that it may have used and nobody knows: charged at the most that can be. */
  readonly unknownUnits?: readonly string[] | undefined
  /** Whether the provider saw nothing of it: it is as if it had not begun, but for that it failed. */
  readonly isUnreached?: boolean
  /** From 0 to 1: spreads the ends of pauses. */
  readonly random: number
}

/** Why a call may not go out, and when to try again. */
export interface Refusal extends RoomAgain {
  readonly why: 'held-off' | 'limit-reached' | 'budget-spent'
  /** What blocks it, for people. */
  readonly what: string
  /** Whether it blocks the provider's other endpoints too. */
  readonly providerWide: boolean
}

/**
 * One kind of thing that may refuse a call: hold-offs, what the provider reported, limits and quotas, budgets. Pure: each method returns
 * what is known afterwards, the same object where nothing changes.
 */
export interface Bound {
  /** Undefined where it lets the call through. */
  refuses(state: ProviderState, call: BoundCall, now: number): Refusal | undefined
  /** A call was refused by it. */
  refused?(state: ProviderState, call: BoundCall, now: number): ProviderState
  /** Counts a call that has begun, also where it was let through by another state. */
  begun(state: ProviderState, call: BoundCall, permit: PermitFacts): ProviderState
  /** A call that takes longer is taken to have ended only at `until`. */
  extended?(state: ProviderState, call: BoundCall, permit: PermitFacts, until: number): ProviderState
  /** Counts the end of a call that was let through. */
  ended(state: ProviderState, call: BoundCall, permit: PermitFacts, end: CallEnd): ProviderState
  /** The clock was set back: nothing may last longer for it. */
  setBack(state: ProviderState, change: ClockChange): ProviderState
}
