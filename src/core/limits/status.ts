import type { BudgetLevel } from './budget.js'
import type { HoldOff } from './hold-off.js'
import type { LimitKind } from './limit.js'
import { notYetDue } from './limit-bound.js'
import { roomAgain, roomIn } from './limit-state.js'
import { type BudgetUse, type LimitUse, ofName, type ProviderState } from './provider-state.js'
import { waitingIn } from './queue-lengths.js'
import type { ReportedLimit } from './reported-limits.js'

/** How a provider stands: what its limits leave, and what is held off. */
export interface ProviderStatus {
  readonly provider: string
  readonly limits: readonly LimitStatus[]
  readonly budgets: readonly BudgetStatus[]
  /** What the provider itself said is left of its other limits. */
  readonly reported: readonly { readonly name: string; readonly left: number; readonly calls: number | null; readonly until: Date }[]
  /** The provider said not to ask before then. */
  readonly pausedUntil: Date | null
  readonly holdOffs: readonly HoldOffStatus[]
  /** Calls that wait for their turn, in all processes. */
  readonly waiting: number
  readonly lastSuccessAt: Date | null
  readonly lastError: { readonly at: Date; readonly endpoint: string; readonly what: string } | null
}

export interface LimitStatus {
  readonly limit: string
  readonly kind: LimitKind
  readonly calls: number
  /** Calls that may begin now; for background calls, which leave others their share. */
  readonly left: number
  readonly leftInBackground: number
  /** When there is room again, as far as is known; null where there is. */
  readonly roomAgainAt: Date | null
  /**
   * Of a quota, what the provider itself said is left, less the calls since then, and how many fewer that is than were counted here: calls
   * by others with the same key. The lower of the two rules, and is `left`. Null where it said nothing.
   */
  readonly reported: { readonly left: number; readonly fewer: number } | null
}

/** How far a budget is spent. */
export interface BudgetStatus {
  readonly budget: string
  /** Decimals: money, or calls where `currency` is null. Spent by calls that have ended. */
  readonly amount: string
  readonly currency: string | null
  readonly spent: string
  readonly level: BudgetLevel
  /** How much no call may pass, a decimal; null where calls may. */
  readonly stopsAt: string | null
  /** Begin of the period that is counted; null where it is over, and no call was made since. */
  readonly since: Date | null
  /** End of the period that is counted; null where it is over, and no call was made since. */
  readonly until: Date | null
}

export interface HoldOffStatus {
  /** Null: the provider as a whole. */
  readonly endpoint: string | null
  /** The one path that is held off, of an endpoint that covers many; null where all of it is. */
  readonly path: string | null
  readonly failures: number
  readonly until: Date
  /** `held-off`: nobody asks; `trying`: one call tries whether it is over; `over`: the next call will. */
  readonly state: 'held-off' | 'trying' | 'over'
}

export function statusOf(provider: string, state: ProviderState, now: number): ProviderStatus {
  const { reported, pausedUntil, holdOffs, providerHoldOff, lastSuccessAt, lastError } = state
  const heldOff = [
    ...(providerHoldOff ? [[null, providerHoldOff] as const] : []),
    ...Object.entries(holdOffs).sort(([a], [b]) => (a < b ? -1 : 1)),
  ]
  return {
    provider,
    limits: Object.values(state.limits).map((use) => limitStatus(use, reportedOf(state, use.limit.id, now), now)),
    budgets: Object.values(state.budgets ?? {}).map((use) => budgetStatus(use, now)),
    reported: Object.values(reported)
      .filter(({ until, name }) => until > now && !ofName(state.limits, name))
      .map(({ name, left, calls, until }) => ({ name, left: Math.max(0, left), calls: calls ?? null, until: moment(until) })),
    pausedUntil: pausedUntil !== undefined && pausedUntil > now ? moment(pausedUntil) : null,
    holdOffs: heldOff.map(([scope, holdOff]) => holdOffStatus(scope, holdOff, now)),
    waiting: waitingIn(state, now),
    lastSuccessAt: lastSuccessAt === undefined ? null : moment(lastSuccessAt),
    lastError: lastError ? { ...lastError, at: moment(lastError.at) } : null,
  }
}

function holdOffStatus(scope: string | null, { failures, until, trialUntil = 0 }: HoldOff, now: number): HoldOffStatus {
  const [endpoint = null, path = null] = scope?.split(' ') ?? []
  return { endpoint, path, failures, until: moment(until), state: now < until ? 'held-off' : now < trialUntil ? 'trying' : 'over' }
}

function reportedOf({ reported }: ProviderState, id: string, now: number): ReportedLimit | undefined {
  const said = ofName(reported, id)
  return said && now < said.until ? said : undefined
}

function limitStatus({ limit, state }: LimitUse, reported: ReportedLimit | undefined, now: number): LimitStatus {
  const counted = Math.max(0, roomIn(limit, state, now, false))
  const left = Math.min(counted, Math.max(0, reported?.left ?? counted))
  const again = left > 0 ? undefined : counted > 0 ? { at: reported?.until ?? now } : roomAgain(limit, state, now, false)
  return {
    ...{ limit: limit.name, kind: limit.kind, calls: limit.calls, left },
    leftInBackground: Math.max(0, limit.paced ? left - notYetDue(limit, now) : roomIn(limit, state, now, true)),
    roomAgainAt: again && Number.isFinite(again.at) ? moment(again.at) : null,
    reported: reported ? { left: Math.max(0, reported.left), fewer: counted - Math.max(0, reported.left) } : null,
  }
}

function budgetStatus({ name, amount, currency, state, spent, stopsAt = amount }: BudgetUse, now: number): BudgetStatus {
  const over = now >= state.end
  return {
    ...{ budget: name, amount, currency: currency ?? null, spent: over ? '0' : spent, level: over ? 'free' : state.level },
    stopsAt,
    since: over ? null : moment(state.start),
    until: over ? null : moment(state.end),
  }
}

function moment(at: number): Date {
  return new Date(at)
}
