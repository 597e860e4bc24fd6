import { quotaPeriod } from '../limits/quota.js'
import { addPriceOfAsked, addPriceOfMade } from '../money/flat-price.js'
import { MoneySum } from '../money/money.js'
import { type FactsInForce, factsInForce } from './facts-in-force.js'
import { type BillingFacts, bucketMs, type LedgerMode, type LedgerRow } from './ledger-row.js'
import type { Comparison, Figures, QuotaUse, Report, Spared, Without } from './report-model.js'
import { Tally } from './tally.js'

/** What a report is computed from. */
export interface ReportInput {
  /** Every row from `since` or `quotasSince`, whichever is earlier, to the end of the report. */
  readonly rows: readonly LedgerRow[]
  readonly facts: readonly BillingFacts[]
  /** Rows older than this count only towards quotas. */
  readonly since: number
}

/** Computes a report from the ledger's rows. */
export function reportOf({ rows, facts, since }: ReportInput): Report {
  const known = factsInForce(facts)
  const counted = rows.filter((row) => row.bucket >= since)
  const last = counted.reduce((latest, row) => Math.max(latest, row.bucket), Number.NEGATIVE_INFINITY)
  const first = counted.reduce((earliest, row) => Math.min(earliest, row.bucket), Number.POSITIVE_INFINITY)
  const providers = groupBy(counted, (row) => row.provider).map(([provider, itsRows]) => ({
    provider,
    ...compare(itsRows, known),
    endpoints: groupBy(itsRows, (row) => row.endpoint).map(([endpoint, rowsOfIt]) => ({ endpoint, ...compare(rowsOfIt, known) })),
    quota: quotaUse(provider, rows, known, last),
  }))
  return {
    since: counted.length > 0 ? new Date(first).toISOString() : null,
    until: counted.length > 0 ? new Date(last + bucketMs).toISOString() : null,
    providers,
    totals: compare(counted, known),
  }
}

/** Begin of the earliest quota period that a report up to `last` has to look at, so that its rows can be read. */
export function quotasSince(facts: readonly BillingFacts[], last: number): number {
  const known = factsInForce(facts)
  const starts = facts.map(({ provider }) => known.quota(provider, last)).map((quota) => (quota ? quotaPeriod(quota, last).start : last))
  return Math.min(last, ...starts)
}

function compare(rows: readonly LedgerRow[], known: FactsInForce): Comparison {
  const measured = figuresOf(rows, 'measure', known)
  const reused = figuresOf(rows, 'reuse', known)
  const couldSave = measured ? couldSaveOf(rows, measured.wouldHit, known) : null
  if (!reused) return { without: { basis: 'measured', ...(measured ?? noFigures) }, with: null, saved: null, couldSave }
  const without: Without =
    measured?.asked === reused.asked ? { basis: 'measured', ...measured } : reckonedWithout(rows, reused.asked, known)
  const money = new MoneySum()
  money.addAll(without.money)
  money.addAll(reused.money, -1)
  return { without, with: reused, saved: { upstreamCalls: without.upstream - reused.upstream, money: money.toMoney() }, couldSave }
}

function couldSaveOf(rows: readonly LedgerRow[], upstreamCalls: number, known: FactsInForce): Spared {
  const money = new MoneySum()
  for (const { bucket, provider, endpoint, tally } of rows) {
    const plan = known.plan(provider, endpoint, bucket)
    if (plan) money.add(plan.currency, plan.perCall, tally.wouldHit)
  }
  return { upstreamCalls, money: money.toMoney() }
}

function reckonedWithout(rows: readonly LedgerRow[], asked: number, known: FactsInForce): Without {
  const money = new MoneySum()
  for (const { bucket, mode, provider, endpoint, tally } of rows) {
    const plan = known.plan(provider, endpoint, bucket)
    if (plan && mode === 'reuse') addPriceOfAsked(money, plan, tally)
  }
  return { basis: 'reckoned', asked, upstream: asked, refused: null, failed: null, letDown: null, money: money.toMoney(), latencyMs: null }
}

function figuresOf(rows: readonly LedgerRow[], mode: LedgerMode, known: FactsInForce): Figures | undefined {
  const total = new Tally()
  const money = new MoneySum()
  for (const row of rows) {
    if (row.mode !== mode) continue
    total.merge(row.tally)
    const plan = known.plan(row.provider, row.endpoint, row.bucket)
    if (plan) addPriceOfMade(money, plan, row.tally)
  }
  return total.asked + total.upstream > 0 ? figuresOfTally(total, money) : undefined
}

function figuresOfTally(tally: Tally, money: MoneySum): Figures {
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
    money: money.toMoney(),
    latencyMs: median === undefined || p95 === undefined ? null : { median: hundredths(median), p95: hundredths(p95) },
  }
}

const noFigures = figuresOfTally(new Tally(), new MoneySum())

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
