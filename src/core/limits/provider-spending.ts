import type { Budget, BudgetLevel, Spending } from './budget.js'
import {
  type BudgetState,
  leaving,
  mayLeave,
  ownAtMost,
  reached,
  spentOf,
  unspent,
  upToDate,
  withLeft,
  withReturned,
} from './budget-state.js'
import type { BudgetUse, CallEnd, LimitUse, Passage, ProviderState, Refusal } from './provider-state.js'

function budgetState({ budgets = {} }: ProviderState, budget: Budget, now: number): BudgetState {
  const known = budgets[budget.id]
  return known ? upToDate(budget, known.state, now) : unspent(budget, now)
}

/** The most that a call can cost besides its place among the plan's calls: one decimal a budget. */
export function ownPrices(state: ProviderState, { budgets, price }: Spending, now: number): string[] {
  return budgets.map((budget) => ownAtMost(budget, budgetState(state, budget, now), price, now))
}

/** Whether a call could pass a budget, or comes in the background when one is to be stretched. */
export function pastBudget(
  state: ProviderState,
  { budgets, price }: Spending,
  { now, until, inBackground }: { now: number; until: number; inBackground: boolean },
): (Refusal & { state?: ProviderState }) | undefined {
  for (const budget of budgets) {
    const known = budgetState(state, budget, now)
    const own = ownAtMost(budget, known, price, now)
    if (mayLeave(budget, known, leaving(budget, price, own, until), now, inBackground)) continue
    const spent = inBackground && reached(known.level, 'stretch') ? known : { ...known, level: 'stop' as const }
    const refusal = { why: 'budget-spent', what: budget.name, at: known.end, sure: true, providerWide: true } as const
    return { ...refusal, ...(known.level !== spent.level && { state: withBudget(state, budget, spent) }) }
  }
  return undefined
}

function withBudget(state: ProviderState, budget: Budget, spent: BudgetState): ProviderState {
  const { name, amount, currency } = budget
  const announced = reached(spent.announced, spent.level) ? spent.announced : spent.level
  const use: BudgetUse = { name, amount, currency, state: { ...spent, announced }, spent: spentOf(budget, spent).toFixed() }
  return { ...state, budgets: { ...state.budgets, [budget.id]: use } }
}

/** Charges a call that has begun at the most that it can cost. */
export function withSpending(state: ProviderState, { budgets, price }: Spending, { began, until, own = [] }: Passage): ProviderState {
  return budgets.reduce((known, budget, i) => {
    const left = leaving(budget, price, own[i] ?? '0', until)
    return withBudget(known, budget, withLeft(budgetState(known, budget, began), left))
  }, state)
}

/** Charges a call that has ended what it cost. */
export function withSpent(
  state: ProviderState,
  { budgets, price }: Spending,
  { until, own = [] }: Passage,
  { at, ending = 'answered', units }: CallEnd,
): ProviderState {
  return budgets.reduce((known, budget, i) => {
    const left = leaving(budget, price, own[i] ?? '0', until)
    return withBudget(known, budget, withReturned(budget, budgetState(known, budget, at), left, { at, ending, units, price }))
  }, state)
}

/** What was counted of limits and budgets before they were known. */
export interface Earlier {
  readonly limits: readonly LimitUse[]
  readonly budgets: readonly { readonly budget: Budget; readonly state: BudgetState }[]
}

/** With what was counted earlier of limits and budgets that are not known yet. */
export function withEarlier(state: ProviderState, { limits, budgets }: Earlier): ProviderState {
  const unknown = limits.filter(({ limit }) => !state.limits[limit.id])
  const added = { ...state, limits: { ...state.limits, ...Object.fromEntries(unknown.map((use) => [use.limit.id, use])) } }
  return budgets.reduce((known, one) => (known.budgets?.[one.budget.id] ? known : withBudget(known, one.budget, one.state)), added)
}

/** Budgets that reached a level for the first time in their period. */
export function newlyReached(before: ProviderState, after: ProviderState): BudgetUse[] {
  return Object.entries(after.budgets ?? {}).flatMap(([id, use]) => {
    const was = before.budgets?.[id]?.state
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
