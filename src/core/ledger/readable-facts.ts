import { quotaPeriod } from '../limits/quota.js'
import { isPrice } from '../money/money.js'
import type { PlanOptions, PlanTerms } from '../money/plan.js'
import { billingPeriod, termsAt } from '../money/plan-periods.js'
import { periodAround } from '../time/calendar.js'
import { isTimeZone } from '../time/time-zone.js'
import type { BillingFacts } from './ledger-row.js'
import { furthest } from './readable-row.js'

/** Whether billing facts of unknown origin are valid, so that reports can compute with them. */
export function areReadable(facts: BillingFacts): boolean {
  try {
    const { provider, endpoint, since, plan, price, quota, limits, exportZone, rates } = facts
    if (typeof provider !== 'string' || (typeof endpoint !== 'string' && endpoint !== null)) return false
    if (!Number.isSafeInteger(since) || Math.abs(since) >= furthest) return false
    if (quota && !(quota.calls > 0 && isTimeZone(quota.zone) && quotaPeriod(quota, since).end > since)) return false
    if (limits?.some(({ calls, perMs }) => !(calls > 0 && perMs > 0))) return false
    if (price && !((price.perCall === undefined || isPrice(price.perCall)) && isWeight(price.weight))) return false
    if (exportZone !== undefined && !isTimeZone(exportZone)) return false
    if (rates && !Object.values(rates.rates).every(isPrice)) return false
    return plan === undefined || isPlan(plan, since)
  } catch {
    return false
  }
}

function isWeight(weight: unknown): boolean {
  return weight === undefined || (typeof weight === 'number' && weight > 0)
}

/** Whether a plan is valid: its currency, zone, period and every price in it. */
function isPlan(plan: PlanOptions, since: number): boolean {
  const { currency, zone = 'UTC', changes = [], prepaid } = plan
  if (!/^[A-Z]{3}$/.test(currency) || !isTimeZone(zone) || billingPeriod(plan, since).end <= since) return false
  if (!changes.every(({ from }) => /^\d{4}-\d{2}-\d{2}$/.test(from) && Number.isFinite(Date.parse(from)))) return false
  if (prepaid && !(prepaid.credits > 0 && isPrice(prepaid.price))) return false
  return [termsAt(plan, since), plan, ...changes].every(areTerms) && periodAround(since, 'day', zone).end > since
}

function areTerms({ perCall, baseFee, minimum, maximum, included, tiers = [], packages, units = {} }: PlanTerms): boolean {
  const prices = [
    perCall,
    baseFee,
    minimum,
    maximum,
    packages?.price,
    ...tiers.map((tier) => tier.perCall),
    ...Object.values(units).map((unit) => unit.price),
  ]
  const numbers = [included, packages?.of, ...tiers.map(({ upTo }) => upTo)]
  return (
    prices.every((price) => price === undefined || isPrice(price)) &&
    numbers.every((number) => number === undefined || (Number.isFinite(number) && number >= 0)) &&
    (packages === undefined || packages.of > 0) &&
    Object.values(units).every(({ per = 1 }) => per > 0)
  )
}
