import type { Bound, BoundCall, CallEnd, PermitFacts, Refusal } from './bound.js'
import { moved } from './clock-change.js'
import { afterFailure, type HoldOff, heldOffUntil } from './hold-off.js'
import { mapValues, ofName, type ProviderState, withValue } from './provider-state.js'

/** Scopes whose hold-offs are remembered, at the most: an endpoint can have many paths. */
const mostScopes = 100

/** Hold-offs: of what failed itself, and of the provider where several things failed without a success between. */
export const holdOffBound: Bound = {
  refuses({ providerHoldOff, holdOffs }, { holdOffScope, holdOff, leaseMs }, now): Refusal | undefined {
    if (holdOff.firstMs <= 0) return undefined
    const facts = { why: 'held-off', what: 'recent calls to it failed', sure: true } as const
    const ofProvider = heldOffUntil(providerHoldOff, holdOff, now, leaseMs)
    if (ofProvider !== undefined) return { ...facts, at: ofProvider, providerWide: true }
    const own = heldOffUntil(ofName(holdOffs, holdOffScope), holdOff, now, leaseMs)
    return own === undefined ? undefined : { ...facts, at: own, providerWide: false }
  },

  begun(state, { holdOffScope }, { until }) {
    const trying = (holdOff: HoldOff | undefined) => holdOff && { ...holdOff, trialUntil: until }
    const own = ofName(state.holdOffs, holdOffScope)
    if (!own && !state.providerHoldOff) return state
    const holdOffs = own ? withValue(state.holdOffs, holdOffScope, trying(own)) : state.holdOffs
    return { ...state, holdOffs, providerHoldOff: trying(state.providerHoldOff) }
  },

  ended: (state, call, permit, end) => (end.how === undefined ? state : withResult(state, call, permit, end)),

  setBack(state, change) {
    const back = (holdOff: HoldOff): HoldOff => ({
      ...holdOff,
      ...{ at: moved(holdOff.at, change), until: moved(holdOff.until, change) },
      ...(holdOff.trialUntil !== undefined && { trialUntil: moved(holdOff.trialUntil, change) }),
    })
    const { providerHoldOff, lastSuccessAt, lastError } = state
    return {
      ...state,
      holdOffs: mapValues(state.holdOffs, back),
      ...(providerHoldOff && { providerHoldOff: back(providerHoldOff) }),
      ...(lastSuccessAt !== undefined && { lastSuccessAt: moved(lastSuccessAt, change) }),
      ...(lastError && { lastError: { ...lastError, at: moved(lastError.at, change) } }),
    }
  },
}

/** Whether the provider saw nothing of the call for whose failure others are held off. */
export function wasUnreached({ holdOffs, providerHoldOff }: ProviderState, { holdOffScope }: BoundCall): boolean {
  return (ofName(holdOffs, holdOffScope) ?? providerHoldOff)?.unreached === true
}

/** What a call came to, as soon as that is known: when its head says that it failed, or at its end. */
export function withResult(state: ProviderState, call: BoundCall, permit: Pick<PermitFacts, 'began'>, end: CallEnd): ProviderState {
  const { holdOffScope, endpoint } = call
  const own = ofName(state.holdOffs, holdOffScope)
  const untried = (holdOff: HoldOff | undefined) => holdOff && { ...holdOff, trialUntil: undefined }
  switch (end.how) {
    case undefined:
      return state
    case 'answered':
      return { ...state, holdOffs: withValue(state.holdOffs, holdOffScope, undefined), providerHoldOff: undefined, lastSuccessAt: end.at }
    case 'left':
      return { ...state, holdOffs: withValue(state.holdOffs, holdOffScope, untried(own)), providerHoldOff: untried(state.providerHoldOff) }
    case 'refused':
      if (end.saidWhen) {
        const lastError = { at: end.at, endpoint, what: end.what ?? 'refused' }
        return { ...withResult(state, call, permit, { ...end, how: 'left' }), lastError }
      }
      return withResult(state, call, permit, { ...end, how: 'failed' })
    case 'failed': {
      const known = { began: permit.began, now: end.at, random: end.random, unreached: end.isUnreached }
      const failing = Object.entries(state.holdOffs).some(([scope, { at }]) => scope !== holdOffScope && at >= (state.lastSuccessAt ?? 0))
      const holdOff = untried(afterFailure(own, call.holdOff, known))
      const together = state.providerHoldOff !== undefined || (holdOff !== undefined && failing)
      return {
        ...state,
        holdOffs: bounded(withValue(state.holdOffs, holdOffScope, holdOff)),
        providerHoldOff: together ? untried(afterFailure(state.providerHoldOff, call.holdOff, known)) : undefined,
        lastError: { at: end.at, endpoint, what: end.what ?? 'failed' },
      }
    }
  }
}

/** Without those that failed longest ago, where there are too many. */
function bounded(holdOffs: ProviderState['holdOffs']): ProviderState['holdOffs'] {
  const all = Object.entries(holdOffs)
  return all.length <= mostScopes ? holdOffs : Object.fromEntries(all.sort(([, a], [, b]) => b.at - a.at).slice(0, mostScopes))
}
