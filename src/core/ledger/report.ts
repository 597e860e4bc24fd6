import { quotaPeriod } from '../limits/quota.js'
import { billedCalls } from '../money/billed-calls.js'
import type { Money } from '../money/money.js'
import type { Units } from '../rules/units.js'
import { beginsOf } from '../time/calendar.js'
import { type FactsInForce, factsInForce } from './facts-in-force.js'
import { type Costs, compare, sumOf } from './figures.js'
import { type BillingFacts, grains, type LedgerMode, type LedgerRow } from './ledger-row.js'
import { overLimits } from './over-limit.js'
import { billingSince, byTime, type Pricing, type ProviderPrices, priceProvider, priceTimes } from './provider-prices.js'
import type { ProviderReport, QuotaUse, Report, TimeReport } from './report-model.js'

/** What a report is computed from. */
export interface ReportInput {
  /** Every row from `since` or `rowsSince`, whichever is earlier, to the end of the report. */
  readonly rows: readonly LedgerRow[]
  readonly facts: readonly BillingFacts[]
  /** Rows older than this count only towards quotas and places in billing periods. */
  readonly since: number
  /** End of the time reported, exclusive: what was asked for, at the latest the present. */
  readonly until: number
  /** Whether calls are also told by the hours or days of a time zone. */
  readonly times?: { readonly by: 'hour' | 'day'; readonly zone: string } | undefined
}

/** Computes a report from the ledger's rows. */
export function reportOf({ rows, facts, since, until, times }: ReportInput): Report {
  const known = factsInForce(facts)
  const counted = rows.filter((row) => row.bucket >= since)
  const last = counted.reduce((latest, row) => Math.max(latest, row.bucket), Number.NEGATIVE_INFINITY)
  const end = counted.reduce((latest, row) => Math.max(latest, row.bucket + row.lengthMs), Number.NEGATIVE_INFINITY)
  const first = counted.reduce((earliest, row) => Math.min(earliest, row.bucket), Number.POSITIVE_INFINITY)
  const over = overLimits(rows, known)
  const inProvider = new Map(groupBy(rows, (row) => row.provider))
  const costs = new Map<string, Costs<ProviderPrices>>()
  const providers = groupBy(counted, (row) => row.provider).map(([provider, itsRows]) => {
    const cost = costsOf({ known, over }, provider, inProvider.get(provider) ?? [], since, until)
    costs.set(provider, cost)
    return {
      provider,
      ...compare(itsRows, (kind) => inAll(cost[kind]), over),
      endpoints: groupBy(itsRows, (row) => row.endpoint).map(([endpoint, rowsOfIt]) => ({
        endpoint,
        ...compare(rowsOfIt, (kind) => cost[kind].byEndpoint.get(endpoint) ?? [], over),
      })),
      fees: feesOf(itsRows, cost),
      periods: cost.reused.periods.length > 0 ? cost.reused.periods : cost.measured.periods,
      quota: quotaUse(provider, rows, known, last),
    }
  })
  return {
    since: counted.length > 0 ? new Date(first).toISOString() : null,
    until: counted.length > 0 ? new Date(end).toISOString() : null,
    providers,
    ...(times && counted.length > 0 && { times: timesOf({ known, over }, rows, spansOf(times, counted, first, end), { since, until }) }),
    totals: compare(counted, (kind) => sumOf([...costs.values()].map((cost) => inAll(cost[kind]))), over),
  }
}

/** Base fees and the like, which belong to no endpoint. */
function feesOf(rows: readonly LedgerRow[], { measured, reused, asked }: Costs<ProviderPrices>): ProviderReport['fees'] {
  const { without, with: made } = compare(rows, () => [], new Map())
  return { without: without.basis === 'measured' ? measured.fees : asked.fees, with: made ? reused.fees : null }
}

/** Begin of the earliest quota and billing period that a report has to look at, so that its rows can be read. */
export function rowsSince(facts: readonly BillingFacts[], first: number, last: number): number {
  const known = factsInForce(facts)
  const names = [...new Set(facts.map(({ provider }) => provider))]
  const starts = names.flatMap((provider) =>
    [first, last].map((at) => {
      const quota = known.quota(provider, at)
      return quota ? quotaPeriod(quota, at).start : at
    }),
  )
  return Math.min(last, ...starts, billingSince(known, names, first))
}

/** Begins of the hours or days that are told apart; where rows of longer buckets were counted, their begins in place of those within. */
function spansOf({ by, zone }: NonNullable<ReportInput['times']>, rows: readonly LedgerRow[], first: number, end: number): number[] {
  const longer = rows.filter(({ grain }) => grains.indexOf(grain) > grains.indexOf(by))
  const within = (begin: number) => longer.some(({ bucket, lengthMs }) => begin > bucket && begin < bucket + lengthMs)
  const begins = beginsOf(by, first, end, zone)
  const starts = longer.map(({ bucket }) => bucket)
  return longer.length === 0 ? begins : [...new Set([...begins.filter((begin) => !within(begin)), ...starts])].sort((a, b) => a - b)
}

/** What a report is priced by. */
interface Known {
  readonly known: FactsInForce
  /** Calls of each row that limits would have refused had all gone upstream. */
  readonly over: ReadonlyMap<LedgerRow, number>
}

/** The same calls hour by hour, or day by day. */
function timesOf(facts: Known, rows: readonly LedgerRow[], all: readonly number[], range: { since: number; until: number }): TimeReport[] {
  const from = Math.max(range.since, all[0] ?? 0)
  const inTime = byTime(
    rows.filter(({ bucket }) => bucket >= from),
    all,
  )
  const perProvider = groupBy(rows, (row) => row.provider).map(([provider, itsRows]) =>
    costsOfKinds(facts, (mode, callsOf, unitsOf = unitsMade) =>
      priceTimes(facts.known, { provider, rows: itsRows.filter((row) => row.mode === mode), since: from, callsOf, unitsOf }, all),
    ),
  )
  return all.map((begin, i) => {
    const its = inTime.get(begin) ?? []
    const end = all[i + 1] ?? its.reduce((latest, { bucket, lengthMs }) => Math.max(latest, bucket + lengthMs), range.until)
    return {
      ...{ from: new Date(begin).toISOString(), until: new Date(end).toISOString() },
      partial: begin < range.since || (i === all.length - 1 && end > range.until),
      ...compare(its, (kind) => sumOf(perProvider.map((costs) => costs[kind].get(begin) ?? [])), facts.over),
    }
  })
}

type Price<T> = (mode: LedgerMode, callsOf: Pricing['callsOf'], unitsOf?: Pricing['unitsOf']) => T

const unitsMade: Pricing['unitsOf'] = ({ tally }) => tally.units.made

function costsOf(facts: Known, provider: string, rows: readonly LedgerRow[], since: number, until: number): Costs<ProviderPrices> {
  return costsOfKinds(facts, (mode, callsOf, unitsOf = unitsMade) =>
    priceProvider(facts.known, { provider, rows: rows.filter((row) => row.mode === mode), since, until, callsOf, unitsOf }),
  )
}

function costsOfKinds<T>({ over }: Known, price: Price<T>): Costs<T> {
  const refused = (row: LedgerRow) => row.tally.overLimit + (over.get(row) ?? 0)
  return {
    measured: price('measure', ({ tally }, plan) => billedCalls(plan, tally)),
    reused: price('reuse', ({ tally }, plan) => billedCalls(plan, tally)),
    asked: price(
      'reuse',
      (row) => row.tally.asked - refused(row),
      (row) => withoutRefused(row.tally.units.asked, refused(row) / Math.max(1, row.tally.asked)),
    ),
    spared: price('measure', ({ tally }, plan) => Math.max(0, billedCalls(plan, tally) - tally.wouldHit)),
  }
}

/** Units less the share of calls that would have been refused. */
function withoutRefused(units: Units, share: number): Units {
  return share === 0 ? units : Object.fromEntries(Object.entries(units).map(([name, number]) => [name, Math.round(number * (1 - share))]))
}

function inAll({ byEndpoint, fees }: ProviderPrices): Money[] {
  return sumOf([...byEndpoint.values(), fees])
}

function quotaUse(provider: string, rows: readonly LedgerRow[], known: FactsInForce, last: number): QuotaUse | null {
  const quota = known.quota(provider, last)
  if (!quota) return null
  const { start, end } = quotaPeriod(quota, last)
  const inPeriod = rows.filter((row) => row.provider === provider && row.bucket >= start && row.bucket < end)
  const used = (mode: LedgerMode) => inPeriod.reduce((sum, row) => sum + (row.mode === mode ? row.tally.upstream : 0), 0)
  return {
    limit: quota.calls,
    per: quota.per,
    zone: quota.zone,
    from: new Date(start).toISOString(),
    until: new Date(end).toISOString(),
    used: { measuring: used('measure'), reusing: used('reuse') },
  }
}

/** Groups in the order of their names. */
function groupBy(rows: readonly LedgerRow[], nameOf: (row: LedgerRow) => string): [string, LedgerRow[]][] {
  const groups = new Map<string, LedgerRow[]>()
  for (const row of rows) {
    const group = groups.get(nameOf(row))
    if (group) group.push(row)
    else groups.set(nameOf(row), [row])
  }
  return [...groups].sort(([a], [b]) => (a < b ? -1 : 1))
}
