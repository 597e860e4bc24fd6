import Big from 'big.js'
import { decimal } from '../money/decimal.js'
import { chargeOfPeriod } from '../money/period-charge.js'
import type { PlanTerms } from '../money/plan.js'
import type { Units } from '../money/units.js'
import type { Budget, BudgetLevel } from './budget.js'
import { type CallsUnderWay, highestPrice, untilOf } from './budget-calls.js'
import { calendars } from './calendars.js'

/** So many calls by weight, at the prices that held at a moment. */
type MeteredAt = readonly [at: number, calls: number]

/** How far a budget is spent, as plain data that can be kept as JSON. Amounts are decimals, moments milliseconds since 1970-01-01T00:00Z. */
export interface BudgetState {
  /** The period that is counted. */
  readonly start: number
  readonly end: number
  /** The billing period of the plan that is counted: what was charged in it before `start`, and what was bought in it so far. */
  readonly billing: { readonly start: number; readonly end: number }
  readonly before: string
  readonly metered: readonly MeteredAt[]
  readonly own: string
  /** What earlier billing periods charged since `start`. */
  readonly closed: string
  readonly flying: readonly CallsUnderWay[]
  /** The most units that one call was seen to cost. */
  readonly mostUnits: Units
  /** How far it is spent by the calls that have ended; `stop` also while a call that was refused for it may still not leave. */
  readonly level: BudgetLevel
  /** The highest level of the period that was announced. */
  readonly announced: BudgetLevel
  /** The last call that was refused for it, as if it had left. */
  readonly refused?: CallsUnderWay | undefined
  /** Other periods that were counted, should the clock change, without calls under way. */
  readonly others?: readonly BudgetState[]
  /** What of `metered` and `own` is of earlier periods, or counts in one already, for the clock was set back: calls by weight, and money. */
  readonly folded?: { readonly calls: number; readonly own: string }
  /** Of a period that was there before the clock was set back: when its calls count no more, for no true period can hold them then. */
  readonly countsUntil?: number
}

/** Nothing spent in the period that `now` falls in. */
export function unspent(budget: Budget, now: number): BudgetState {
  const { start, end } = calendars().periodAround(now, budget.per, budget.zone)
  return {
    ...{ start, end, billing: calendars().billingPeriod(budget.plan, now), before: '0', metered: [], own: '0', closed: '0', flying: [] },
    ...{ mostUnits: {}, level: 'free', announced: 'free' },
  }
}

/** What was spent of each budget in its latest state: more than one state of it has the same. */
const latest = new WeakMap<Budget, { readonly state: BudgetState; readonly spent: Big }>()

/** What is spent of a budget by the calls that have ended. */
export function spentOf(budget: Budget, state: BudgetState): Big {
  const known = latest.get(budget)
  if (known && isSpentAlike(known.state, state)) return known.spent
  const { closed, billing, metered, own, before } = state
  const charge = charged(budget, billing.start, metered, decimal(own))
  const inAll = closed === '0' ? charge : charge.plus(decimal(closed))
  return before === '0' ? inAll : inAll.minus(decimal(before))
}

/** A state, of which it is remembered what is spent. */
export function withSpent(budget: Budget, state: BudgetState, spent: Big): BudgetState {
  latest.set(budget, { state, spent })
  return state
}

function isSpentAlike(one: BudgetState, other: BudgetState): boolean {
  const { metered, own, closed, before, billing } = one
  const isSame = metered === other.metered && own === other.own && closed === other.closed && before === other.before
  return isSame && billing.start === other.billing.start
}

/** The most that can be spent once all calls under way have ended, and `more`, which leaves at `now`. */
export function mostSpent(budget: Budget, state: BudgetState, more: CallsUnderWay, now: number): Big {
  const flying = [...state.flying, more]
  const last = Math.max(...flying.map(untilOf))
  const own = flying.reduce((sum, [, calls, , each]) => (each === '0' ? sum : sum.plus(decimal(each).times(calls))), decimal(state.own))
  const counted = flying.reduce((sum, [, calls, weight]) => sum + calls * weight, 0)
  const atOnce = spentOf(budget, { ...state, metered: [...state.metered, [now, counted]], own: own.toFixed() })
  const isSure = countsWhenLeft(budget)
    ? (budget.plan.changes ?? []).length === 0
    : last < state.billing.end && samePrices(budget, now, last)
  if (isSure) return atOnce
  // the prices change, or the plan begins to count anew, while they are under way: each at the highest price there is
  const { changes = [] } = budget.plan
  const terms = [calendars().termsAt(budget.plan, now), calendars().termsAt(budget.plan, last), ...changes]
  const highest = flying.reduce((sum, [, calls, weight]) => sum.plus(highestPrice(terms, weight).times(calls)), new Big(0))
  const before = terms.some(({ tiering }) => tiering === 'volume')
    ? highestPrice(terms, 1).times(callsIn(state)).plus(state.closed) // which all may be priced anew
    : spentOf(budget, { ...state, own: '0' })
  const most = before.plus(own).plus(highest)
  return most.gt(atOnce) ? most : atOnce
}

/** Whether a call belongs to the period in which it left, not to the one in which it ended. */
export function countsWhenLeft({ plan }: Pick<Budget, 'plan'>): boolean {
  return plan.countedAt === 'left'
}

function samePrices({ plan }: Budget, one: number, other: number): boolean {
  return (
    (plan.changes ?? []).length === 0 || JSON.stringify(calendars().termsAt(plan, one)) === JSON.stringify(calendars().termsAt(plan, other))
  )
}

export function charged({ plan }: Budget, billingStart: number, metered: readonly MeteredAt[], own: Big): Big {
  const priced = metered.filter(([, calls]) => calls > 0).map(([at, calls]) => ({ calls, terms: calendars().termsAt(plan, at) }))
  return chargeOfPeriod(calendars().termsAt(plan, billingStart), priced, own)
}

export function callsIn({ metered }: Pick<BudgetState, 'metered'>): number {
  return metered.reduce((sum, [, calls]) => sum + calls, 0)
}

/** What is bought at the same prices, put together. */
export function grouped({ plan }: Pick<Budget, 'plan'>, metered: readonly MeteredAt[]): readonly MeteredAt[] {
  const { changes = [] } = plan
  const groups: { at: number; calls: number; terms: PlanTerms | string }[] = []
  for (const [at, calls] of countsWhenLeft({ plan }) ? [...metered].sort(([a], [b]) => a - b) : metered) {
    const terms = changes.length === 0 ? plan : JSON.stringify(calendars().termsAt(plan, at))
    const last = groups.at(-1)
    if (last?.terms === terms) last.calls += calls
    else groups.push({ at, calls, terms })
  }
  return groups.map(({ at, calls }) => [at, calls])
}
