import { type Admission, admit as admission, withClock } from '../../src/core/limits/admission.js'
import type { BoundCall, CallEnd, PermitFacts, Refusal } from '../../src/core/limits/bound.js'
import { withEvent } from '../../src/core/limits/provider-events.js'
import type { ProviderState } from '../../src/core/limits/provider-state.js'
import type { Reported } from '../../src/core/limits/reported-limits.js'

/** What the gate does with one call: lets it through or not, and what is known then. */
export type Admitted =
  | { readonly admitted: true; readonly permit: PermitFacts; readonly state: ProviderState }
  | ({ readonly admitted: false; readonly state: ProviderState } & Refusal)

/** Asks for a permit, as the gate does. */
export function admit(before: ProviderState, call: BoundCall, at: number): Admitted {
  const decided: Admission = admission(withClock(before, at), call, at)
  if (decided.admitted) return { ...decided, state: withEvent(before, { is: 'begun', at, call, permit: decided.permit }) }
  return { admitted: false, ...decided.refusal, state: withEvent(before, { is: 'refused', at, call, by: decided.by }) }
}

/** Ends a call. */
export function ended(before: ProviderState, call: BoundCall, permit: PermitFacts, end: CallEnd): ProviderState {
  return withEvent(before, { is: 'ended', at: end.at, call, permit, end })
}

/** A call learns what its provider reports. */
export function reported(before: ProviderState, call: BoundCall, permit: PermitFacts, said: Reported, at: number): ProviderState {
  return withEvent(before, { is: 'answering', at, call, permit, reported: said, result: undefined })
}
