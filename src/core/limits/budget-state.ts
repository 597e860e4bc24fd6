import Big from 'big.js'
import { type Ending, isBilled } from '../money/billed-calls.js'
import { decimal } from '../money/decimal.js'
import { chargeOfUnits } from '../money/period-charge.js'
import { numberOf, type Units } from '../money/units.js'
import type { Budget, BudgetLevel, CallPrice } from './budget.js'
import { budgetLevels } from './budget.js'
import { type CallsUnderWay, highestPrice, untilOf, withCall, withLonger, withoutCall } from './budget-calls.js'
import { type BudgetState, callsIn, charged, countsWhenLeft, grouped, mostSpent, spentOf, unspent, withSpent } from './budget-spending.js'
import { calendars } from './calendars.js'
import { type ClockChange, clockTolerance, moved } from './clock-change.js'

/** Other periods remembered, at the most. */
const mostOthers = 4

/** The most that one more call can cost besides its place among the plan's calls: its own price, and its units. */
export function ownAtMost(budget: Budget, { mostUnits }: Pick<BudgetState, 'mostUnits'>, price: CallPrice, now: number): string {
  if (budget.currency === undefined) return '0'
  const units = { ...mostUnits, ...price.unitsUpTo }
  return decimal(price.perCall ?? '0')
    .plus(chargeOfUnits(calendars().termsAt(budget.plan, now), units))
    .toFixed()
}

/** Whether one more call may leave: not if, with all that are under way, it could pass the budget. */
export function mayLeave(budget: Budget, state: BudgetState, call: CallsUnderWay, now: number, inBackground: boolean): boolean {
  if (inBackground && reached(state.level, 'stretch')) return false
  const { stop } = budget.thresholds
  return stop === undefined || mostSpent(budget, state, call, now).lte(stop)
}

/** A call was refused for it. */
export function withRefused(budget: Budget, state: BudgetState, call: CallsUnderWay): BudgetState {
  return levelled(budget, { ...state, refused: call })
}

/** A call that is about to leave, at the most that it can cost. */
export function leaving(budget: Budget, price: CallPrice, own: string, until: number): CallsUnderWay {
  if (budget.currency === undefined) return [until, 1, 1, '0']
  return [until, 1, price.perCall === undefined ? price.weight : 0, own]
}

export function withLeft(state: BudgetState, call: CallsUnderWay): BudgetState {
  return { ...state, flying: withCall(state.flying, call) }
}

/** A call that left as `call` takes longer: it is counted as made only at `until`. */
export function extendedCall(state: BudgetState, call: CallsUnderWay, until: number): BudgetState {
  return { ...state, flying: withLonger(state.flying, call, until) }
}

interface Returned {
  /** Default: `at`. */
  readonly beganAt?: number
  readonly at: number
  readonly ending: Ending
  readonly units: Units | undefined
  readonly unknownUnits?: readonly string[] | undefined
  readonly price: CallPrice
  /** Whether the provider saw nothing of it, so that it is charged nothing. */
  readonly isUnreached?: boolean | undefined
}

/** A call that left as `call` has ended: it is charged what it cost. */
export function withReturned(
  budget: Budget,
  state: BudgetState,
  call: CallsUnderWay,
  { at: endedAt, beganAt = endedAt, ending, units: known = {}, unknownUnits = [], price, isUnreached = false }: Returned,
): BudgetState {
  const flying = withoutCall(state.flying, call)
  if (!flying) return state // its time was over before, and it was charged then
  if (isUnreached) return levelled(budget, { ...state, flying })
  const [, , weight] = call
  const units = { ...most(unknownUnits, { ...state.mostUnits, ...price.unitsUpTo }), ...known }
  const at = countsWhenLeft(budget) ? beganAt : endedAt
  const counts = budget.currency === undefined
  const billed = counts || isBilled(price.unbilled, ending)
  const bought = counts
    ? '0'
    : decimal((billed && price.perCall) || '0')
        .plus(chargeOfUnits(calendars().termsAt(budget.plan, at), units))
        .toFixed()
  const mostUnits = Object.fromEntries(
    Object.entries({ ...state.mostUnits, ...units }).map(([name, number]) => [name, Math.max(number, numberOf(state.mostUnits, name))]),
  )
  return levelled(budget, withBought({ ...state, flying, mostUnits: counts ? {} : mostUnits }, at, billed ? weight : 0, bought))
}

function most(names: readonly string[], units: Units): Units {
  return Object.fromEntries(names.map((name) => [name, numberOf(units, name)]))
}

function withBought(state: BudgetState, at: number, calls: number, own: string): BudgetState {
  const others = state.others?.map((later) => {
    if (later.start <= at || at >= (later.countsUntil ?? 0)) return later
    const { calls: before, own: ownBefore } = later.folded ?? nothingFolded
    return { ...bought(later, at, calls, own), folded: { calls: before + calls, own: new Big(ownBefore).plus(own).toFixed() } }
  })
  return { ...bought(state, at, calls, own), ...(others && { others }) }
}

function bought(state: BudgetState, at: number, calls: number, own: string): BudgetState {
  return {
    ...state,
    metered: calls > 0 ? [...state.metered, [at, calls]] : state.metered,
    own: own === '0' ? state.own : decimal(state.own).plus(own).toFixed(),
  }
}

/** What was bought at a moment: calls by weight, and what cost `own` besides. */
export interface Bought {
  readonly at: number
  readonly calls: number
  readonly own: string
}

/** How far a budget is spent by what was bought before, in the order of time, from the begin of the billing period on. */
export function spentEarlier(budget: Budget, all: readonly Bought[], now: number): BudgetState {
  let state = unspent(budget, all[0]?.at ?? now)
  for (const { at, calls, own } of all) {
    const next = withBought(turned(budget, state, at), at, calls, own)
    state = { ...next, metered: grouped(budget, next.metered) }
  }
  return levelled(budget, turned(budget, state, now))
}

/** The state at `now`: of the period that it falls in, and with calls that were not heard of in time charged. */
export function upToDate(budget: Budget, state: BudgetState, now: number): BudgetState {
  let current = now < state.start - clockTolerance ? turnedBack(budget, state, now) : state
  for (const call of current.flying) {
    const [, calls, weight, own] = call
    const until = untilOf(call)
    if (until > now) continue
    const flying = current.flying.filter((one) => one !== call)
    // where calls count when they left, it belongs to the present period still
    const at = countsWhenLeft(budget) ? Math.min(until, current.billing.end - 1, current.end - 1) : until
    current = withBought(turned(budget, { ...current, flying }, at), at, calls * weight, new Big(own).times(calls).toFixed())
  }
  const next = turned(budget, current, now)
  return next === state ? state : levelled(budget, next)
}

/** The clock was set back: calls under way are waited for no longer than before. */
export function setBack(state: BudgetState, change: ClockChange): BudgetState {
  const flying = state.flying.map(([id, calls, weight, own, until = id]): CallsUnderWay => [id, calls, weight, own, moved(until, change)])
  return { ...state, flying, metered: state.metered.map(([at, calls]) => [moved(at, change), calls]) }
}

/** Goes back to an earlier period, in which also counts what was spent in the later one: these calls were made. */
function turnedBack(budget: Budget, state: BudgetState, now: number): BudgetState {
  const { others = [], flying, ...later } = state
  const earlier = others.find(({ start, end }) => now >= start && now < end) ?? unspent(budget, now)
  const calls = callsIn(later)
  const own = new Big(later.own).plus(later.closed)
  const { calls: foldedCalls, own: foldedOwn } = later.folded ?? nothingFolded
  const countsUntil = now + (later.end - later.start)
  const left: BudgetState = { ...later, flying: [], folded: { calls, own: own.toFixed() }, countsUntil }
  const rest = others.filter(({ start }) => start !== earlier.start)
  const next = withBought({ ...earlier, others: rest }, now, Math.max(0, calls - foldedCalls), own.minus(foldedOwn).toFixed())
  return { ...next, flying, mostUnits: later.mostUnits, others: [left, ...(next.others ?? [])].slice(0, mostOthers) }
}

/** What is closed of a budget, with calls under way that belong to the billing period which is over: each at the most that it can cost. */
function closedWithFlying({ plan }: Budget, { closed, flying, billing }: BudgetState): string {
  const terms = [calendars().termsAt(plan, billing.start), ...(plan.changes ?? [])]
  return flying
    .reduce((sum, [, calls, weight, own]) => sum.plus(highestPrice(terms, weight).plus(own).times(calls)), new Big(closed))
    .toFixed()
}

const nothingFolded = { calls: 0, own: '0' }

/** Begins the periods that `now` falls in. */
function turned(budget: Budget, state: BudgetState, now: number): BudgetState {
  let current = state
  if (now >= current.billing.end) {
    if (countsWhenLeft(budget)) current = { ...current, closed: closedWithFlying(budget, current), flying: [] }
    const closed = spentOf(budget, current).toFixed()
    current = {
      ...current,
      closed,
      before: '0',
      metered: [],
      own: '0',
      billing: calendars().billingPeriod(budget.plan, now),
      folded: nothingFolded,
    }
  }
  if (now >= current.end) {
    const { others = [], flying: underWay, ...over } = state
    const flying = countsWhenLeft(budget) ? [] : underWay
    const { start, end } = calendars().periodAround(now, budget.per, budget.zone)
    const kept = [{ ...over, flying: [] }, ...others.filter((one) => one.start !== start)].slice(0, mostOthers)
    const known = others.find((one) => one.start === start)
    if (known && now < (known.countsUntil ?? Number.POSITIVE_INFINITY))
      return { ...known, flying, mostUnits: state.mostUnits, others: kept }
    const before = charged(budget, current.billing.start, current.metered, new Big(current.own)).toFixed()
    const folded = { calls: callsIn(current), own: current.own }
    current = { ...current, start, end, closed: '0', before, level: 'free', announced: 'free', others: kept, folded, refused: undefined }
  }
  return current
}

/** With what is bought at the same prices together, and the level that is reached by it. */
function levelled(budget: Budget, state: BudgetState): BudgetState {
  const together = { ...state, metered: grouped(budget, state.metered) }
  const { warn, stretch, stop } = budget.thresholds
  const spent = spentOf(budget, together)
  const { refused } = state
  const isStopped =
    isOver(spent, stop) || (refused !== undefined && !mayLeave(budget, { ...together, level: 'free' }, refused, refused[0], false))
  const level = isStopped ? 'stop' : isOver(spent, stretch) ? 'stretch' : isOver(spent, warn) ? 'warn' : 'free'
  return withSpent(budget, { ...together, level }, spent)
}

function isOver(spent: Big, threshold: Big | undefined): boolean {
  return threshold !== undefined && spent.gte(threshold)
}

export function reached(level: BudgetLevel, of: BudgetLevel): boolean {
  return budgetLevels.indexOf(level) >= budgetLevels.indexOf(of)
}
