import Big from 'big.js'
import type { PlanOptions, PlanTerms } from './plan.js'

/** How many decimals amounts of a plan need: those of its currency (ISO 4217) and of every price in it. */
export function priceDigits({ currency, changes = [], ...terms }: PlanOptions): number {
  return Math.max(digitsOf(currency), ...[terms, ...changes].flatMap(pricesOf).map((price) => price.split('.')[1]?.length ?? 0))
}

const known = new Map<string, number>()

/** Decimals of a currency (ISO 4217). */
export function digitsOf(currency: string): number {
  const digits =
    known.get(currency) ?? new Intl.NumberFormat('en', { style: 'currency', currency }).resolvedOptions().maximumFractionDigits ?? 2
  known.set(currency, digits)
  return digits
}

function pricesOf({ baseFee, perCall, tiers = [], packages, units = {}, minimum, maximum }: PlanTerms): string[] {
  const ofUnits = Object.values(units).map(({ price, per = 1 }) => new Big(price).div(per).toFixed())
  return [...ofUnits, baseFee, perCall, packages?.price, minimum, maximum, ...tiers.map((tier) => tier.perCall)].filter(
    (price) => price !== undefined,
  )
}
