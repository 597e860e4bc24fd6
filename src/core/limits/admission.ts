import type { Bound, BoundCall, PermitFacts, Refusal } from './bound.js'
import { budgetBound, ownPrices } from './budget-bound.js'
import { clockTolerance } from './clock-change.js'
import { leaseEnd } from './hold-off.js'
import { holdOffBound } from './hold-off-bound.js'
import { limitBound } from './limit-bound.js'
import type { ProviderState } from './provider-state.js'
import { withClockSetBack as queuesSetBack } from './queue-lengths.js'
import { reportedBound } from './reported-bound.js'

/** Everything that may refuse a call, in the order in which it is asked. */
export const bounds: readonly Bound[] = [holdOffBound, reportedBound, limitBound, budgetBound]

export type Admission =
  | { readonly admitted: true; readonly permit: PermitFacts }
  | { readonly admitted: false; readonly refusal: Refusal; readonly by: Bound }

/** Lets a call through or not; everything that could refuse it is asked before anything is counted. `state` is up to date with the clock. */
export function admit(state: ProviderState, call: BoundCall, now: number): Admission {
  for (const by of bounds) {
    const refusal = by.refuses(state, call, now)
    if (refusal) return { admitted: false, refusal, by }
  }
  const own = ownPrices(state, call, now)
  const permit = { began: now, until: leaseEnd(now, call.leaseMs), endedBefore: state.endedEver, ...(own && { own }) }
  return { admitted: true, permit }
}

/** Whether the clock was set back since the state was changed last. */
export function isClockSetBack({ latest }: ProviderState, now: number): boolean {
  return now < latest - clockTolerance
}

/** The state by the clock as it is now: where that was set back, nothing lasts longer for it than it would have. */
export function withClock(state: ProviderState, now: number): ProviderState {
  if (!isClockSetBack(state, now)) return state
  const change = { latest: state.latest, now }
  const moved = bounds.reduce((known, bound) => bound.setBack(known, change), state)
  return { ...queuesSetBack(moved, change), latest: now }
}
