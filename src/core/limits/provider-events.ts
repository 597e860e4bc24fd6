import { bounds, withClock } from './admission.js'
import type { Bound, BoundCall, CallEnd, PermitFacts } from './bound.js'
import type { Budget } from './budget.js'
import { withBudget } from './budget-bound.js'
import type { BudgetState } from './budget-spending.js'
import { withResult } from './hold-off-bound.js'
import { type LimitUse, ofName, type ProviderState } from './provider-state.js'
import { withQueue } from './queue-lengths.js'
import { withReported } from './reported-bound.js'
import type { Reported } from './reported-limits.js'

/** What changes what is known of a provider. `at`: milliseconds since 1970-01-01T00:00Z. */
export type ProviderEvent = { readonly at: number } & (
  | { readonly is: 'begun'; readonly call: BoundCall; readonly permit: PermitFacts }
  | { readonly is: 'refused'; readonly call: BoundCall; readonly by: Bound }
  /** The head of its answer has arrived: what the provider reports of its limits, and what the call came to where that says so. */
  | {
      readonly is: 'answering'
      readonly call: BoundCall
      readonly permit: PermitFacts
      readonly reported: Reported | undefined
      readonly result: CallEnd | undefined
    }
  | { readonly is: 'extended'; readonly call: BoundCall; readonly permit: PermitFacts; readonly until: number }
  | { readonly is: 'ended'; readonly call: BoundCall; readonly permit: PermitFacts; readonly end: CallEnd }
  | { readonly is: 'queued'; readonly process: string; readonly waiting: number }
  | { readonly is: 'counted-earlier'; readonly earlier: Earlier }
  /** Pauses, reported limits and hold-offs are to be forgotten. */
  | { readonly is: 'forgiven' }
)

/** What was counted of limits and budgets before they were known. */
export interface Earlier {
  readonly limits: readonly LimitUse[]
  readonly budgets: readonly { readonly budget: Budget; readonly state: BudgetState }[]
}

/**
 * What is known after an event. `now`: the time of whoever applies it, by which it is seen whether the clock was set back; an event may come late, of a process that
 * stood still.
 */
export function withEvent(before: ProviderState, event: ProviderEvent, now = event.at): ProviderState {
  const known = withClock(before, now)
  const after = applied(known, event)
  return { ...after, latest: Math.max(after.latest, event.at), changes: (before.changes ?? 0) + 1 }
}

function applied(state: ProviderState, event: ProviderEvent): ProviderState {
  switch (event.is) {
    case 'begun':
      return bounds.reduce((known, bound) => bound.begun(known, event.call, event.permit), state)
    case 'refused':
      return event.by.refused?.(state, event.call, event.at) ?? state
    case 'answering': {
      const { call, permit, reported, result, at } = event
      const learned = reported ? withReported(state, call, permit, reported, at) : state
      return result ? withResult(learned, call, permit, result) : learned
    }
    case 'extended':
      return bounds.reduce((known, bound) => bound.extended?.(known, event.call, event.permit, event.until) ?? known, state)
    case 'ended':
      return bounds.reduceRight((known, bound) => bound.ended(known, event.call, event.permit, event.end), state)
    case 'queued':
      return withQueue(state, event.process, event.waiting, event.at)
    case 'counted-earlier':
      return withEarlier(state, event.earlier)
    case 'forgiven': {
      const { pausedUntil: _pause, providerHoldOff: _holdOff, ...kept } = state
      return { ...kept, reported: {}, holdOffs: {} }
    }
  }
}

/** With what was counted earlier of limits and budgets that are not known yet. */
function withEarlier(state: ProviderState, { limits, budgets }: Earlier): ProviderState {
  const unknown = limits.filter(({ limit }) => !ofName(state.limits, limit.id))
  const added = { ...state, limits: { ...state.limits, ...Object.fromEntries(unknown.map((use) => [use.limit.id, use])) } }
  return budgets.reduce((known, one) => (ofName(known.budgets, one.budget.id) ? known : withBudget(known, one.budget, one.state)), added)
}
