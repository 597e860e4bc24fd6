import { quotaPeriod } from '../limits/quota.js'
import { billedCalls } from '../money/billed-calls.js'
import { type Money, MoneySum } from '../money/money.js'
import { beginsOf } from '../time/calendar.js'
import { type FactsInForce, factsInForce } from './facts-in-force.js'
import { type BillingFacts, bucketMs, type LedgerMode, type LedgerRow } from './ledger-row.js'
import { billingSince, byTime, type Pricing, type ProviderPrices, priceProvider, priceTimes } from './provider-prices.js'
import type { Comparison, Figures, ProviderReport, QuotaUse, Report, Spared, TimeReport, Without } from './report-model.js'
import { Tally } from './tally.js'

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
  const first = counted.reduce((earliest, row) => Math.min(earliest, row.bucket), Number.POSITIVE_INFINITY)
  const inProvider = new Map(groupBy(rows, (row) => row.provider))
  const costs = new Map<string, Costs<ProviderPrices>>()
  const providers = groupBy(counted, (row) => row.provider).map(([provider, itsRows]) => {
    const cost = costsOf(known, provider, inProvider.get(provider) ?? [], since, until)
    costs.set(provider, cost)
    return {
      provider,
      ...compare(itsRows, (kind) => inAll(cost[kind])),
      endpoints: groupBy(itsRows, (row) => row.endpoint).map(([endpoint, rowsOfIt]) => ({
        endpoint,
        ...compare(rowsOfIt, (kind) => cost[kind].byEndpoint.get(endpoint) ?? []),
      })),
      fees: feesOf(itsRows, cost),
      periods: cost.reused.periods.length > 0 ? cost.reused.periods : cost.measured.periods,
      quota: quotaUse(provider, rows, known, last),
    }
  })
  return {
    since: counted.length > 0 ? new Date(first).toISOString() : null,
    until: counted.length > 0 ? new Date(last + bucketMs).toISOString() : null,
    providers,
    ...(times && counted.length > 0 && { times: timesOf(known, rows, begins(times, first, last), { since, until }) }),
    totals: compare(counted, (kind) => sumOf([...costs.values()].map((cost) => inAll(cost[kind])))),
  }
}

/** Base fees and the like, which belong to no endpoint. */
function feesOf(rows: readonly LedgerRow[], { measured, reused, asked }: Costs<ProviderPrices>): ProviderReport['fees'] {
  const { without, with: made } = compare(rows, () => [])
  return { without: without.basis === 'measured' ? measured.fees : asked.fees, with: made ? reused.fees : null }
}

/** Begin of the earliest quota and billing period that a report has to look at, so that its rows can be read. */
export function rowsSince(facts: readonly BillingFacts[], first: number, last: number): number {
  const known = factsInForce(facts)
  const names = [...new Set(facts.map(({ provider }) => provider))]
  const starts = names.map((provider) => known.quota(provider, last)).map((quota) => (quota ? quotaPeriod(quota, last).start : last))
  return Math.min(last, ...starts, billingSince(known, names, first))
}

function begins({ by, zone }: NonNullable<ReportInput['times']>, first: number, last: number): number[] {
  return beginsOf(by, first, last + bucketMs, zone)
}

/** The same calls hour by hour, or day by day. */
function timesOf(
  known: FactsInForce,
  rows: readonly LedgerRow[],
  all: readonly number[],
  range: { since: number; until: number },
): TimeReport[] {
  const sorted = [...rows].sort((a, b) => a.bucket - b.bucket)
  const from = Math.max(range.since, all[0] ?? 0)
  const inTime = byTime(
    sorted.filter(({ bucket }) => bucket >= from),
    all,
  )
  const perProvider = groupBy(rows, (row) => row.provider).map(([provider, itsRows]) =>
    costsOfKinds((mode, callsOf, unitsOf = unitsMade) =>
      priceTimes(known, { provider, rows: itsRows.filter((row) => row.mode === mode), since: from, callsOf, unitsOf }, all),
    ),
  )
  return all.map((begin, i) => {
    const end = all[i + 1] ?? range.until
    return {
      from: new Date(begin).toISOString(),
      partial: begin < range.since || (i === all.length - 1 && end > range.until),
      ...compare(inTime.get(begin) ?? [], (kind) => sumOf(perProvider.map((costs) => costs[kind].get(begin) ?? []))),
    }
  })
}

/** What the calls of a provider cost: made while measuring and while reusing, had all that were asked while reusing been made, and had those
 * measured not been made that reuse would have spared. */
type Costs<T> = Readonly<Record<'measured' | 'reused' | 'asked' | 'spared', T>>
type CostOf = (kind: keyof Costs<unknown>) => readonly Money[]
type Price<T> = (mode: LedgerMode, callsOf: Pricing['callsOf'], unitsOf?: Pricing['unitsOf']) => T

const unitsMade: Pricing['unitsOf'] = ({ tally }) => tally.units.made

function costsOf(known: FactsInForce, provider: string, rows: readonly LedgerRow[], since: number, until: number): Costs<ProviderPrices> {
  return costsOfKinds((mode, callsOf, unitsOf = unitsMade) =>
    priceProvider(known, { provider, rows: rows.filter((row) => row.mode === mode), since, until, callsOf, unitsOf }),
  )
}

function costsOfKinds<T>(price: Price<T>): Costs<T> {
  return {
    measured: price('measure', ({ tally }, plan) => billedCalls(plan, tally)),
    reused: price('reuse', ({ tally }, plan) => billedCalls(plan, tally)),
    asked: price(
      'reuse',
      ({ tally }) => tally.asked,
      ({ tally }) => tally.units.asked,
    ),
    spared: price('measure', ({ tally }, plan) => Math.max(0, billedCalls(plan, tally) - tally.wouldHit)),
  }
}

function inAll({ byEndpoint, fees }: ProviderPrices): Money[] {
  return sumOf([...byEndpoint.values(), fees])
}

function sumOf(moneys: readonly (readonly Money[])[]): Money[] {
  const sum = new MoneySum()
  for (const money of moneys) sum.addAll(money)
  return sum.toMoney()
}

function compare(rows: readonly LedgerRow[], costOf: CostOf): Comparison {
  const measured = figuresOf(rows, 'measure', costOf('measured'))
  const reused = figuresOf(rows, 'reuse', costOf('reused'))
  const couldSave: Spared | null = measured
    ? { upstreamCalls: measured.wouldHit, money: difference(costOf('measured'), costOf('spared')) }
    : null
  if (!reused) return { without: { basis: 'measured', ...(measured ?? noFigures) }, with: null, saved: null, couldSave }
  const without: Without = measured?.asked === reused.asked ? { basis: 'measured', ...measured } : reckoned(reused.asked, costOf('asked'))
  const saved = { upstreamCalls: without.upstream - reused.upstream, money: difference(without.money, reused.money) }
  return { without, with: reused, saved, couldSave }
}

function difference(more: readonly Money[], less: readonly Money[]): Money[] {
  const sum = new MoneySum()
  sum.addAll(more)
  sum.addAll(less, -1)
  return sum.toMoney()
}

function reckoned(asked: number, money: readonly Money[]): Without {
  return { basis: 'reckoned', asked, upstream: asked, refused: null, failed: null, letDown: null, money, latencyMs: null }
}

function figuresOf(rows: readonly LedgerRow[], mode: LedgerMode, money: readonly Money[]): Figures | undefined {
  const total = new Tally()
  for (const row of rows) if (row.mode === mode) total.merge(row.tally)
  return total.asked + total.upstream > 0 ? figuresOfTally(total, money) : undefined
}

function figuresOfTally(tally: Tally, money: readonly Money[]): Figures {
  const [median, p95] = [tally.latency.quantile(0.5), tally.latency.quantile(0.95)]
  return {
    asked: tally.asked,
    upstream: tally.upstream,
    unmodified: tally.upUnmodified,
    refused: tally.upRefused,
    failed: tally.upFailed,
    fromStore: tally.hit,
    stale: tally.stale,
    oldestStaleMs: tally.stale > 0 ? tally.oldestStaleMs : null,
    otherwise: tally.otherwise,
    collapsed: tally.collapsed,
    letDown: tally.letDown,
    changed: tally.changed,
    unchanged: tally.unchanged,
    corrupt: tally.corrupt,
    wouldHit: tally.wouldHit,
    money,
    latencyMs: median === undefined || p95 === undefined ? null : { median: hundredths(median), p95: hundredths(p95) },
  }
}

const noFigures = figuresOfTally(new Tally(), [])

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

function hundredths(ms: number): number {
  return Math.round(ms * 100) / 100
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
