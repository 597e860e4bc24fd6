import { quotaPeriod } from '../limits/quota.js'
import { isPrice } from '../money/money.js'
import { billingPeriod, type PlanOptions, type PlanTerms, termsAt } from '../money/plan.js'
import { isTimeZone, periodAround } from '../time/calendar.js'
import { type BillingFacts, grains, type LedgerRow, type TallyRow } from './ledger-row.js'
import { Tally } from './tally.js'
import { countNames, type TallyData } from './tally-data.js'

/** Moments that calendars know, milliseconds since 1970-01-01T00:00Z. */
const furthest = 8e15

/** The longest that a bucket can be, milliseconds. */
const longestMs = 32 * 86_400_000

/** A ledger row of unknown origin, parsed; undefined where it is not valid. */
export function readableRow(row: LedgerRow): TallyRow | undefined {
  try {
    const { bucket, grain, lengthMs, mode, provider, endpoint, tally } = row
    const isOne =
      Number.isSafeInteger(bucket) &&
      Math.abs(bucket) < furthest &&
      grains.includes(grain) &&
      lengthMs > 0 &&
      lengthMs <= longestMs &&
      (mode === 'measure' || mode === 'reuse') &&
      typeof provider === 'string' &&
      typeof endpoint === 'string' &&
      isTally(tally)
    return isOne ? { ...row, tally: Tally.from(tally) } : undefined
  } catch {
    return undefined
  }
}

const knownNames = new Set<string>([
  ...countNames,
  'oldestStaleMs',
  'notStored',
  'refetchedUnits',
  'wouldHitUnits',
  'units',
  'parts',
  'ms',
  'upMs',
  'ageMs',
  'changedMs',
  'unchangedMs',
])

/** Whether a value of unknown origin is a valid tally. */
export function isTally(tally: unknown): tally is TallyData {
  if (typeof tally !== 'object' || tally === null || Array.isArray(tally)) return false
  const { units } = tally as TallyData
  for (const name in tally) {
    const value = (tally as Record<string, unknown>)[name]
    if (!knownNames.has(name)) return false
    if (name === 'units') {
      if (!isUnits(units?.made) || !isUnits(units?.asked)) return false
    } else if (name === 'parts') {
      if (typeof value !== 'object' || value === null || !Object.values(value).every(isPart)) return false
    } else if (name === 'notStored' || name === 'refetchedUnits' || name === 'wouldHitUnits') {
      if (!isUnits(value)) return false
    } else if (name === 'ms' || name === 'upMs' || name === 'ageMs' || name === 'changedMs' || name === 'unchangedMs') {
      if (typeof value !== 'string' || !/^[\d,+]*$/.test(value)) return false
    } else if (!isCount(value)) return false
  }
  return true
}

/** What is counted apart has no parts of its own. */
function isPart(part: unknown): boolean {
  return typeof part === 'object' && part !== null && !Object.hasOwn(part, 'parts') && isTally(part)
}

function isUnits(units: unknown): boolean {
  return typeof units === 'object' && units !== null && Object.values(units).every(isCount)
}

function isCount(value: unknown): boolean {
  return typeof value === 'number' && value >= 0 && value < Number.POSITIVE_INFINITY
}

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
