import type { PlanOptions, PlanTerms } from 'stashen'

/** One call of a journal. */
export interface JournalCall {
  readonly at: number
  readonly endpoint: string
  readonly how: 'answered' | 'unmodified' | 'clientError' | 'refused' | 'serverError' | 'noAnswer'
}

/** What an endpoint's calls cost, where that is not the plan's price. */
export type EndpointPrices = Readonly<Record<string, { readonly perCall?: string; readonly weight?: number }>>

/** Millionths of the currency, whole: the plans of the tests have no finer prices. */
const millionths = (price: string | undefined): bigint => {
  const [whole = '0', decimals = ''] = (price ?? '0').split('.')
  return BigInt(whole + decimals.padEnd(6, '0'))
}

const formats = new Map<string, Intl.DateTimeFormat>()

/** The date on the wall of a zone, as numbers. */
function dateIn(zone: string, at: number): [year: number, month: number, day: number] {
  const format = formats.get(zone) ?? new Intl.DateTimeFormat('en', { timeZone: zone, year: 'numeric', month: 'numeric', day: 'numeric' })
  formats.set(zone, format)
  const parts = format.formatToParts(at)
  const part = (type: string) => Number(parts.find((one) => one.type === type)?.value)
  return [part('year'), part('month'), part('day')]
}

/** Names the billing period of a call. */
function periodOf({ period = 'month', anchorDay = 1, zone = 'UTC', prepaid }: PlanOptions, at: number): string {
  if (prepaid) return 'ever'
  const [year, month, day] = dateIn(zone, at)
  if (typeof period === 'object') {
    const days = (Date.UTC(year, month - 1, day) - Date.parse(`${period.from}T00:00Z`)) / 86_400_000
    return `period ${Math.floor(days / period.days)}`
  }
  if (period === 'day') return `${year}-${month}-${day}`
  if (period === 'year') return `${year}`
  const lastDay = new Date(Date.UTC(year, month, 0)).getUTCDate()
  if (day >= Math.min(anchorDay, lastDay)) return `${year}-${month}`
  return month === 1 ? `${year - 1}-12` : `${year}-${month - 1}`
}

function termsOf(plan: PlanOptions, at: number): PlanTerms {
  if (plan.prepaid) return { packages: { of: plan.prepaid.credits, price: plan.prepaid.price } }
  const [year, month, day] = dateIn(plan.zone ?? 'UTC', at)
  const today = `${year}-${String(month).padStart(2, '0')}-${String(day).padStart(2, '0')}`
  let terms: PlanTerms = plan
  for (const { from, ...change } of [...(plan.changes ?? [])].sort((a, b) => a.from.localeCompare(b.from))) {
    if (from > today) continue
    const priced = change.perCall ?? change.tiers ?? change.packages
    terms = {
      ...terms,
      ...(priced && { perCall: undefined, tiers: undefined, tiering: undefined, packages: undefined }),
      ...change,
    } as PlanTerms
  }
  return terms
}

function isBilled({ notBilled = [] }: PlanOptions, how: JournalCall['how']): boolean {
  if (how === 'answered') return true
  if ((how === 'serverError' || how === 'noAnswer') && notBilled.includes('failed')) return false
  return !notBilled.includes(how)
}

/**
 * Prices a journal the slow way, call by call, as somebody with a pencil would: for each billing period in which there is a call, or that
 * falls between `since`, when the plan was first known, and the last call, in millionths of the currency.
 */
export function invoices(
  plan: PlanOptions,
  prices: EndpointPrices,
  journal: readonly JournalCall[],
  since = Number.POSITIVE_INFINITY,
): Map<string, bigint> {
  const byPeriod = new Map<string, JournalCall[]>()
  const end = Math.floor(Math.max(...journal.map(({ at }) => at)) / 60_000) * 60_000 + 60_000
  const idle = new Map<string, number>()
  for (let at = since; at < end; at += 3_600_000) if (!idle.has(periodOf(plan, at))) idle.set(periodOf(plan, at), at)
  for (const call of [...journal].sort((a, b) => a.at - b.at)) {
    const period = periodOf(plan, call.at)
    byPeriod.set(period, [...(byPeriod.get(period) ?? []), call])
  }
  const all = [...new Set([...idle.keys(), ...byPeriod.keys()])]
  return new Map(all.map((period) => [period, invoice(plan, prices, byPeriod.get(period) ?? [], idle.get(period) ?? since)]))
}

function invoice(plan: PlanOptions, prices: EndpointPrices, calls: readonly JournalCall[], within: number): bigint {
  let charge = 0n
  const counted: PlanTerms[] = [] // one for each call that counts in the plan, or each unit of its weight
  let last: PlanTerms | undefined
  for (const { at, endpoint, how } of calls) {
    if (!isBilled(plan, how)) continue
    const { perCall, weight = 1 } = prices[endpoint] ?? {}
    if (perCall !== undefined) charge += millionths(perCall)
    else {
      for (let unit = 0; unit < weight; unit++) counted.push(termsOf(plan, at))
      last = termsOf(plan, at)
    }
  }
  for (const [i, { included = 0, perCall, tiers, tiering, packages }] of counted.entries()) {
    const place = i + 1
    if (place <= included) continue
    if (packages) charge += (place - included - 1) % packages.of === 0 ? millionths(packages.price) : 0n
    else if (tiers) {
      const where = tiering === 'volume' ? counted.length : place
      charge += millionths(tiers.find(({ upTo }) => upTo === undefined || where <= upTo)?.perCall)
    } else charge += millionths(perCall)
  }
  const first = firstTerms(plan, calls[0]?.at ?? within)
  charge += millionths(first.baseFee)
  const { minimum, maximum, rounding } = last ?? first
  if (minimum !== undefined && charge < millionths(minimum)) charge = millionths(minimum)
  if (maximum !== undefined && charge > millionths(maximum)) charge = millionths(maximum)
  return rounding ? cents(charge, rounding) * 10_000n : charge
}

/** Whole cents of so many millionths. */
function cents(charge: bigint, rounding: NonNullable<PlanTerms['rounding']>): bigint {
  const [whole, rest] = [charge / 10_000n, charge % 10_000n]
  if (rest === 0n || rounding === 'down') return whole
  if (rounding === 'up' || rest > 5_000n) return whole + 1n
  return rest === 5_000n && (rounding === 'half-up' || whole % 2n === 1n) ? whole + 1n : whole
}

/** The prices at the begin of the period, which is found by going back a quarter of an hour at a time, in longer steps first. */
function firstTerms(plan: PlanOptions, within: number): PlanTerms {
  let at = within
  if (plan.prepaid) return termsOf(plan, at)
  const period = periodOf(plan, at)
  for (const step of [86_400_000, 3_600_000, 900_000]) while (periodOf(plan, at - step) === period) at -= step
  return termsOf(plan, at)
}
