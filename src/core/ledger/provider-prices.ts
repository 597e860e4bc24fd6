import Big from 'big.js'
import { apportioned } from '../money/apportion.js'
import type { Money } from '../money/money.js'
import { chargeOfPeriod } from '../money/period-charge.js'
import type { PlanOptions, PlanTerms } from '../money/plan.js'
import { billingPeriod, termsAt as termsOfPlan } from '../money/plan-periods.js'
import { priceDigits } from '../money/price-digits.js'
import type { Steps } from '../steps.js'
import { type BilledPeriod, billedPeriods } from './billed-periods.js'
import type { FactsInForce } from './facts-in-force.js'
import { bucketMs, momentOf, type TallyRow } from './ledger-row.js'
import { joined, type Pricing, usageOf, usageSteps } from './plan-usage.js'

/** What the calls of a provider cost: by endpoint, what belongs to none (base fees), and by billing period. */
export interface ProviderPrices {
  readonly byEndpoint: ReadonlyMap<string, readonly Money[]>
  readonly fees: readonly Money[]
  readonly periods: readonly PricedPeriod[]
  /** When what each of them costs without a call falls due, in the same order. */
  readonly due: readonly number[]
}

/** A billing period, and what of it falls into a report. */
export interface PricedPeriod extends Money {
  /** IANA time zone of the plan, in whose days it begins and ends. */
  readonly zone: string
  readonly from: Date
  readonly until: Date
  /** Whether the report, or the ledger, covers only a part of it. */
  readonly partial: boolean
  /** Whether what a call costs depends on how many there are in the period: allowance, tiers, packages, credits, minimum, maximum. */
  readonly dependsOnVolume: boolean
}

/** What each of some stretches of time costs, by its begin: the first begins at the first of `begins`, each ends where the next begins. */
export function* priceTimes(known: FactsInForce, pricing: Pricing, begins: readonly number[]): Steps<Map<number, Money[]>> {
  const sums = new Map<number, Map<string, Big>>()
  for (const { plan, start, dueAt, isBegun, before, within } of yield* billedPeriods(known, pricing)) {
    const first = firstTerms(known, pricing.provider, { plan, start })
    const soFar = yield* usageSteps(known, plan, before, pricing)
    let [metered, own] = [soFar.metered, soFar.own]
    let charged = isBegun ? chargeOfPeriod(first, metered, own, plan.currency) : new Big(0)
    const chargeAt = (begin: number) => {
      const charge = chargeOfPeriod(first, metered, own, plan.currency)
      const sum = sums.get(begin) ?? new Map<string, Big>()
      sums.set(begin, sum)
      add(sum, plan.currency, charge.minus(charged))
      charged = charge
    }
    if (!isBegun) chargeAt(begins.findLast((begin) => begin <= dueAt) ?? (begins[0] as number))
    for (const [begin, rows] of byTime(within, begins)) {
      const usage = usageOf(known, plan, rows, pricing)
      ;[metered, own] = [joined(metered, usage.metered), own.plus(usage.own)]
      chargeAt(begin)
      yield
    }
  }
  return new Map([...sums].map(([begin, sum]) => [begin, moneyOf(sum)]))
}

/** Rows by the begin of the stretch that they fall into, in the order of time. */
function byTime(rows: readonly TallyRow[], begins: readonly number[]): Map<number, TallyRow[]> {
  const groups = new Map<number, TallyRow[]>()
  let i = 0
  for (const row of [...rows].sort((a, b) => momentOf(a) - momentOf(b))) {
    while (i + 1 < begins.length && momentOf(row) >= (begins[i + 1] as number)) i++
    const begin = begins[i] as number
    const group = groups.get(begin)
    if (group) group.push(row)
    else groups.set(begin, [row])
  }
  return groups
}

/**
 * Prices the calls of a provider period by period: what a part of a period costs is what the period costs up to its end less what it costs
 * up to its begin, so that all parts add up to the whole; fees of the period as such belong to the part in which it begins. Units, and
 * calls of an endpoint with a price of its own, are charged to that; the rest, without the base fee, is split over the endpoints of the
 * period in proportion to their billed calls by weight.
 */
export function* priceProvider(known: FactsInForce, pricing: Pricing): Steps<ProviderPrices> {
  const { provider, since, until } = pricing
  const byEndpoint = new Map<string, Map<string, Big>>()
  const fees = new Map<string, Big>()
  const periods: PricedPeriod[] = []
  const due: number[] = []
  for (const { plan, start, end, dueAt, isBegun, before, within } of yield* billedPeriods(known, pricing)) {
    const earlier = yield* usageSteps(known, plan, before, pricing)
    const later = yield* usageSteps(known, plan, within, pricing)
    const first = firstTerms(known, provider, { plan, start })
    const whole = chargeOfPeriod(first, [...earlier.metered, ...later.metered], earlier.own.plus(later.own), plan.currency)
    const charge = isBegun ? whole.minus(chargeOfPeriod(first, earlier.metered, earlier.own, plan.currency)) : whole
    const { currency } = plan
    due.push(dueAt)
    periods.push({
      ...{ currency, amount: charge.toFixed(), zone: plan.zone ?? 'UTC' },
      ...(plan.prepaid ? spanOf(within) : { from: new Date(start), until: new Date(end) }),
      dependsOnVolume: dependsOnVolume(plan),
      partial: !plan.prepaid && (start < Math.max(since, known.since(provider)) || end > until),
    })
    const endpoints = [...later.byEndpoint.keys()].sort()
    const shares = endpoints.map((name) => later.byEndpoint.get(name)?.metered ?? 0)
    const fee = isBegun ? new Big(0) : lesser(new Big(first.baseFee ?? 0), charge)
    const rest = charge.minus(later.own).minus(fee)
    const parts = apportioned(rest, shares, priceDigits(plan))
    const unsplit = parts ? fee : fee.plus(rest)
    if (!unsplit.eq(0)) add(fees, currency, unsplit)
    for (const [i, name] of endpoints.entries()) {
      const own = later.byEndpoint.get(name)?.own ?? new Big(0)
      const sums = byEndpoint.get(name) ?? new Map<string, Big>()
      byEndpoint.set(name, sums)
      add(sums, currency, own.plus(parts?.[i] ?? 0))
    }
    yield
  }
  return {
    byEndpoint: new Map([...byEndpoint].map(([name, sums]) => [name, moneyOf(sums)])),
    fees: moneyOf(fees),
    periods,
    due,
  }
}

/** The prices that held when a period began. */
function firstTerms(known: FactsInForce, provider: string, { plan, start }: Pick<BilledPeriod, 'plan' | 'start'>): PlanTerms {
  return termsOfPlan((plan.prepaid ? undefined : known.plan(provider, start)) ?? plan, start)
}

/** From the first to the last of some rows. */
function spanOf(rows: readonly TallyRow[]): { from: Date; until: Date } {
  const end = rows.reduce((latest, { bucket, lengthMs }) => Math.max(latest, bucket + lengthMs), 0)
  return { from: new Date(rows[0]?.bucket ?? 0), until: new Date(end) }
}

/** How many prepaid credits were used by the rows of a provider up to the last of them, and are left of those bought. */
export function creditsOf(known: FactsInForce, provider: string, rows: readonly TallyRow[], callsOf: Pricing['callsOf']): Credits | null {
  const last = rows.reduce((latest, { bucket }) => Math.max(latest, bucket), Number.NEGATIVE_INFINITY)
  const plan = known.plan(provider, last)
  if (!plan?.prepaid) return null
  const { credits } = plan.prepaid
  const its = rows.filter(({ bucket }) => known.plan(provider, bucket)?.prepaid)
  const { metered } = usageOf(known, plan, its, { callsOf, unitsOf: () => ({}) })
  const used = metered.reduce((sum, { calls }) => sum + calls, 0)
  const bought = Math.ceil(used / credits) * credits
  return { used, bought, left: bought - used }
}

/** Credits bought in advance: used ever, bought ever, and left of these. */
export interface Credits {
  readonly used: number
  readonly bought: number
  readonly left: number
}

/** Begin of the earliest billing period that a report from `since` on has to look at, so that its rows can be read. */
export function billingSince(known: FactsInForce, providers: readonly string[], since: number): number {
  const starts = providers.map((provider) => {
    const plan = known.plan(provider, since)
    return plan ? billingPeriod(plan, since).start : since
  })
  return Math.floor(Math.min(since, ...starts) / bucketMs) * bucketMs
}

function dependsOnVolume({ prepaid, changes = [], ...plan }: PlanOptions): boolean {
  const isByVolume = ({ included, tiers, packages, minimum, maximum }: PlanTerms) =>
    [included, tiers, packages, minimum, maximum].some((one) => one !== undefined)
  return prepaid !== undefined || [plan, ...changes].some(isByVolume)
}

function lesser(one: Big, other: Big): Big {
  return one.lt(other) ? one : other
}

function add(sums: Map<string, Big>, currency: string, amount: Big): void {
  sums.set(currency, (sums.get(currency) ?? new Big(0)).plus(amount))
}

function moneyOf(sums: ReadonlyMap<string, Big>): Money[] {
  return [...sums].sort(([a], [b]) => (a < b ? -1 : 1)).map(([currency, sum]) => ({ currency, amount: sum.toFixed() }))
}
