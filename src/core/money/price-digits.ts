import Big from 'big.js'
import type { PlanOptions, PlanTerms } from './plan.js'

/** How many decimals amounts of a plan need: those of its currency (ISO 4217) and of every price in it. */
export function priceDigits({ currency, changes = [], ...terms }: PlanOptions): number {
  const ofCurrency = new Intl.NumberFormat('en', { style: 'currency', currency }).resolvedOptions().maximumFractionDigits ?? 2
  return Math.max(ofCurrency, ...[terms, ...changes].flatMap(pricesOf).map((price) => price.split('.')[1]?.length ?? 0))
}

function pricesOf({ baseFee, perCall, tiers = [], packages, units = {}, minimum, maximum }: PlanTerms): string[] {
  const ofUnits = Object.values(units).map(({ price, per = 1 }) => new Big(price).div(per).toFixed())
  return [...ofUnits, baseFee, perCall, packages?.price, minimum, maximum, ...tiers.map((tier) => tier.perCall)].filter(
    (price) => price !== undefined,
  )
}
