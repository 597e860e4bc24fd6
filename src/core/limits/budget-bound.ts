import type { Bound, BoundCall } from './bound.js'
import type { Budget, BudgetLevel } from './budget.js'
import { type BudgetState, spentOf, unspent } from './budget-spending.js'
import {
  extendedCall,
  leaving,
  mayLeave,
  ownAtMost,
  reached,
  setBack,
  upToDate,
  withLeft,
  withRefused,
  withReturned,
} from './budget-state.js'
import { leaseEnd } from './hold-off.js'
import { type BudgetUse, mapValues, ofName, type ProviderState } from './provider-state.js'

/** How much may be spent: no call leaves that could exceed a budget, whatever those under way come to cost. */
export const budgetBound: Bound = {
  refuses(state, { spending, leaseMs, inBackground }, now) {
    const { budgets, price } = spending ?? nothingToSpend
    for (const budget of budgets) {
      const known = budgetState(state, budget, now)
      const call = leaving(budget, price, ownAtMost(budget, known, price, now), leaseEnd(now, leaseMs))
      if (mayLeave(budget, known, call, now, inBackground)) continue
      return { why: 'budget-spent', what: budget.name, at: known.end, sure: true, providerWide: true }
    }
    return undefined
  },

  /** A budget of which no call may be made any more is spent, also where a little of it is left. */
  refused(state, call, now) {
    const { budgets, price } = call.spending ?? nothingToSpend
    for (const budget of budgets) {
      const known = budgetState(state, budget, now)
      if (call.inBackground && reached(known.level, 'stretch')) continue
      const one = leaving(budget, price, ownAtMost(budget, known, price, now), leaseEnd(now, call.leaseMs))
      if (!mayLeave(budget, known, one, now, call.inBackground)) return withBudget(state, budget, withRefused(budget, known, one))
    }
    return state
  },

  begun: (state, { spending }, { began, until, own = [] }) =>
    eachBudget(state, spending, (known, budget, price, i) =>
      withLeft(budgetState(known, budget, began), leaving(budget, price, own[i] ?? '0', until)),
    ),

  extended: (state, { spending }, { until: id, own = [] }, until) =>
    eachBudget(state, spending, (known, budget, price, i) => {
      const use = ofName(known.budgets, budget.id)
      return use && extendedCall(use.state, leaving(budget, price, own[i] ?? '0', id), until)
    }),

  ended: (state, { spending }, { began, until, own = [] }, { at, ending = 'answered', units, unknownUnits, isUnreached }) =>
    eachBudget(state, spending, (known, budget, price, i) => {
      const left = leaving(budget, price, own[i] ?? '0', until)
      return withReturned(budget, budgetState(known, budget, at), left, {
        beganAt: began,
        at,
        ending,
        units,
        unknownUnits,
        price,
        isUnreached,
      })
    }),

  setBack(state, change) {
    return state.budgets ? { ...state, budgets: mapValues(state.budgets, (use) => ({ ...use, state: setBack(use.state, change) })) } : state
  },
}

const nothingToSpend = { budgets: [], price: { weight: 1, unbilled: [], unitsUpTo: {} } } as const

function eachBudget(
  state: ProviderState,
  spending: BoundCall['spending'],
  change: (state: ProviderState, budget: Budget, price: NonNullable<BoundCall['spending']>['price'], i: number) => BudgetState | undefined,
): ProviderState {
  if (!spending) return state
  return spending.budgets.reduce((known, budget, i) => {
    const next = change(known, budget, spending.price, i)
    return next ? withBudget(known, budget, next) : known
  }, state)
}

function budgetState(state: ProviderState, budget: Budget, now: number): BudgetState {
  const known = ofName(state.budgets, budget.id)
  return known ? upToDate(budget, known.state, now) : unspent(budget, now)
}

/** The most that a call can cost besides its place among the plan's calls: one decimal a budget. */
export function ownPrices(state: ProviderState, { spending }: BoundCall, now: number): string[] | undefined {
  return spending?.budgets.map((budget) => ownAtMost(budget, budgetState(state, budget, now), spending.price, now))
}

export function withBudget(state: ProviderState, budget: Budget, spent: BudgetState): ProviderState {
  const { name, amount, currency, thresholds } = budget
  const stopsAt = thresholds.stop?.toFixed() ?? null
  const announced = reached(spent.announced, spent.level) ? spent.announced : spent.level
  const use: BudgetUse = { name, amount, currency, stopsAt, state: { ...spent, announced }, spent: spentOf(budget, spent).toFixed() }
  return { ...state, budgets: { ...state.budgets, [budget.id]: use } }
}

/** Budgets that reached a level for the first time in their period. */
export function newlyReached(before: ProviderState, after: ProviderState): BudgetUse[] {
  return Object.entries(after.budgets ?? {}).flatMap(([id, use]) => {
    const was = ofName(before.budgets, id)?.state
    if (was === use.state) return []
    const level = was?.start === use.state.start ? was.announced : 'free'
    return use.state.announced === 'free' || reached(level, use.state.announced) ? [] : [use]
  })
}

/** How far the budgets of a provider are spent, the most spent of them. */
export function budgetLevelOf({ budgets = {} }: ProviderState, now: number): BudgetLevel {
  let level: BudgetLevel = 'free'
  for (const { state } of Object.values(budgets)) if (now < state.end && reached(state.level, level)) level = state.level
  return level
}
