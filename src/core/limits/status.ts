import type { Limit } from './limit.js'
import { roomAgain, roomIn } from './limit-state.js'
import { type LimitUse, type ProviderState, waitingIn } from './provider-state.js'

/** How a provider stands: what its limits leave, and what is held off. Moments are ISO 8601. */
export interface ProviderStatus {
  readonly provider: string
  readonly limits: readonly LimitStatus[]
  /** What the provider itself said is left. */
  readonly told: readonly { readonly name: string; readonly left: number; readonly calls: number | null; readonly until: string }[]
  /** The provider said not to ask before. */
  readonly notBefore: string | null
  readonly holdOffs: readonly HoldOffStatus[]
  /** Calls that wait for their turn, in all processes. */
  readonly waiting: number
  readonly lastSuccessAt: string | null
  readonly lastError: { readonly at: string; readonly endpoint: string; readonly what: string } | null
}

export interface LimitStatus {
  readonly limit: string
  readonly kind: Limit['kind']
  readonly calls: number
  /** Calls that may begin now; for background calls, which leave others their share. */
  readonly left: number
  readonly leftInBackground: number
  /** When there is room again, as far as is known; null where there is. */
  readonly roomAgainAt: string | null
}

export interface HoldOffStatus {
  /** Null: the provider as a whole. */
  readonly endpoint: string | null
  readonly failures: number
  readonly until: string
  /** `held-off`: nobody asks; `trying`: one call tries whether it is over; `over`: the next call will. */
  readonly state: 'held-off' | 'trying' | 'over'
}

export function statusOf(provider: string, state: ProviderState, now: number): ProviderStatus {
  const { told, notBefore, holdOffs, wholeHoldOff, lastSuccessAt, lastError } = state
  const heldOff = [
    ...(wholeHoldOff ? [[null, wholeHoldOff] as const] : []),
    ...Object.entries(holdOffs).sort(([a], [b]) => (a < b ? -1 : 1)),
  ]
  return {
    provider,
    limits: Object.values(state.limits).map((use) => limitStatus(use, now)),
    told: Object.values(told)
      .filter(({ until }) => until > now)
      .map(({ name, left, calls, until }) => ({ name, left: Math.max(0, left), calls: calls ?? null, until: iso(until) })),
    notBefore: notBefore !== undefined && notBefore > now ? iso(notBefore) : null,
    holdOffs: heldOff.map(([endpoint, { failures, until, trialUntil = 0 }]) => ({
      ...{ endpoint, failures, until: iso(until) },
      state: now < until ? 'held-off' : now < trialUntil ? 'trying' : 'over',
    })),
    waiting: waitingIn(state, now),
    lastSuccessAt: lastSuccessAt === undefined ? null : iso(lastSuccessAt),
    lastError: lastError ? { ...lastError, at: iso(lastError.at) } : null,
  }
}

function limitStatus({ limit, state }: LimitUse, now: number): LimitStatus {
  const left = Math.max(0, roomIn(limit, state, now, false))
  const again = left > 0 ? undefined : roomAgain(limit, state, now, false)
  return {
    ...{ limit: limit.name, kind: limit.kind, calls: limit.calls, left },
    leftInBackground: Math.max(0, roomIn(limit, state, now, true)),
    roomAgainAt: again && Number.isFinite(again.at) ? iso(again.at) : null,
  }
}

function iso(at: number): string {
  return new Date(at).toISOString()
}
