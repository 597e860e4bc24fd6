import Big from 'big.js'
import type { Units } from '../money/units.js'
import { decimal, zero } from './decimal.js'
import type { PlanTerms } from './plan.js'
import { digitsOf } from './price-digits.js'

/** So many billed calls, and the prices that held when they were made; a call of more weight counts as more. */
export interface Metered {
  readonly calls: number
  readonly terms: PlanTerms
}

/**
 * What a period costs in which these calls were made, in the order of time, and others that cost `others`. Each call has the prices that
 * held when it was made, at its place among the calls of the period; the base fee is that of the period's begin, when `first` held, minimum
 * and maximum those of its last call. Rounded where the prices say how, by the decimals of `currency`.
 */
export function chargeOfPeriod(first: PlanTerms, metered: readonly Metered[], others: Big = zero, currency?: string): Big {
  const inAll = metered.reduce((sum, { calls }) => sum + calls, 0)
  let charge = first.baseFee === undefined ? others : decimal(first.baseFee).plus(others)
  let [before, last] = [0, first]
  for (const { calls, terms } of metered) {
    last = terms
    charge = charge.plus(chargeOfCalls(terms, before, before + calls, inAll))
    before += calls
  }
  const { minimum, maximum, rounding } = last
  if (minimum !== undefined && charge.lt(minimum)) charge = decimal(minimum)
  if (maximum !== undefined && charge.gt(maximum)) charge = decimal(maximum)
  return rounding === undefined || currency === undefined ? charge : charge.round(digitsOf(currency), roundingModes[rounding])
}

const roundingModes = { 'half-up': Big.roundHalfUp, 'half-even': Big.roundHalfEven, up: Big.roundUp, down: Big.roundDown } as const

/** What units cost: exact, for prices of a thousand or another number with no other factors than 2 and 5; else to 20 decimals. */
export function chargeOfUnits({ units: prices = {} }: PlanTerms, units: Units = {}): Big {
  let sum = zero
  for (const [name, number] of Object.entries(units)) {
    const { price = '0', per = 1 } = prices[name] ?? {}
    sum = sum.plus(decimal(price).times(number).div(per))
  }
  return sum
}

/** What calls that have a price of their own, if they have, and units cost. */
export function chargeOfCallsAndUnits(
  terms: PlanTerms,
  { perCall, calls, units }: { readonly perCall: string | undefined; readonly calls: number; readonly units: Units },
): Big {
  return decimal(perCall ?? '0')
    .times(calls)
    .plus(chargeOfUnits(terms, units))
}

/** What the calls of a period cost after the first `before`, up to and with the `upTo`th; `inAll` were made in the end. */
function chargeOfCalls(terms: PlanTerms, before: number, upTo: number, inAll: number): Big {
  const { included = 0, perCall, tiers, tiering = 'graduated', packages } = terms
  const beyond = (calls: number) => Math.max(0, calls - included)
  if (packages) {
    const started = (calls: number) => Math.ceil(beyond(calls) / packages.of)
    return decimal(packages.price).times(started(upTo) - started(before))
  }
  if (!tiers) return decimal(perCall ?? '0').times(beyond(upTo) - beyond(before))
  if (tiering === 'volume') {
    const reached = tiers.find((tier) => inAll <= (tier.upTo ?? Number.POSITIVE_INFINITY))
    return decimal(reached?.perCall ?? '0').times(beyond(upTo) - beyond(before))
  }
  let [sum, from] = [zero, 0]
  for (const { upTo: end = Number.POSITIVE_INFINITY, perCall: price } of tiers) {
    const inTier = Math.min(upTo, end) - Math.max(before, from, included)
    if (inTier > 0) sum = sum.plus(decimal(price).times(inTier))
    from = end
  }
  return sum
}
