import { quotaPeriod } from '../limits/quota.js'
import { billedCalls } from '../money/billed-calls.js'
import { allSteps, filtered, forEach, type Steps } from '../steps.js'
import { convert } from './convert.js'
import { allOf, costsOf } from './costs.js'
import { type FactsInForce, factsInForce } from './facts-in-force.js'
import { type Fees, feesOf } from './fees.js'
import { basisOf, type Costs, type Counted, compare, counted, sumOf, together } from './figures.js'
import { groupBy, groupsOf } from './group-by.js'
import { labelReports } from './label-reports.js'
import type { BillingFacts, TallyRow } from './ledger-row.js'
import { lookAhead } from './look-ahead.js'
import { openCalls, overLimits } from './over-limit.js'
import { billingSince, creditsOf, type ProviderPrices } from './provider-prices.js'
import type { ReportInput } from './report-input.js'
import type { Report } from './report-model.js'
import { spansOf, timesOf } from './report-times.js'
import { TimeSaved } from './time-saved.js'
import { savedMeans } from './without.js'

/** Computes a report from the ledger's rows. */
export function reportOf(input: ReportInput): Report {
  return allSteps(reportSteps(input))
}

/** As `reportOf`, in steps. */
export function* reportSteps(input: ReportInput): Steps<Report> {
  const { rows, facts, since, until, times, recent = [], standing = new Map(), budgets = new Map(), isInUse = () => false } = input
  const known = factsInForce(facts)
  const inSpan = yield* filtered(rows, (row) => row.bucket >= since)
  const { first, last, end } = yield* extentOf(inSpan)
  const over = yield* overLimits(rows, known, openCalls)
  const inProvider = yield* groupsOf(rows, (row) => row.provider)
  const recentOf = yield* groupsOf(recent, (row) => row.provider)
  const counts: Omit<Sum, 'cost'>[] = []
  for (const [provider, itsRows] of yield* groupBy(inSpan, (row) => row.provider)) {
    const endpoints: Sum['endpoints'][number][] = []
    for (const [endpoint, rowsOfIt] of yield* groupBy(itsRows, (row) => row.endpoint)) {
      const one = { endpoint, counted: counted(rowsOfIt, { over, known }) }
      if (isUsed(one)) endpoints.push(one)
      yield
    }
    counts.push({ provider, endpoints, counted: together(endpoints.map((one) => one.counted)) })
  }
  const basis = basisOf(counts.flatMap(({ endpoints }) => endpoints.map((one) => one.counted)))
  const isTwice = basis === 'measured' && counts.some(({ counted: { reuse } }) => reuse.isUsed)
  const price = {
    known,
    over,
    basis,
    isTwice,
    feesOf: feesFinder(known, (provider) => ({ since, until: isInUse(provider) ? until : Math.min(until, end) })),
  }
  function* costed(one: Omit<Sum, 'cost'>): Steps<Sum> {
    return { ...one, cost: yield* costsOf(price, one.provider, inProvider.get(one.provider) ?? [], { since, until }) }
  }
  const idle = isTwice ? [] : known.providers.filter((provider) => !counts.some((one) => one.provider === provider))
  const sums: Sum[] = []
  for (const one of counts) sums.push(yield* costed(one))
  for (const provider of idle) {
    const one = yield* costed({ provider, endpoints: [], counted: together([]) })
    if (one.cost.with.fees.length > 0) sums.push(one)
  }
  sums.sort((a, b) => (a.provider < b.provider ? -1 : 1))
  const time = new TimeSaved(sums)
  const at = inSpan.length > 0 ? last : until - 1
  const ahead = (provider: string) =>
    lookAhead({
      ...{ known, provider, basis, at, until, rows: inProvider.get(provider) ?? [] },
      ...{ recent: recentOf.get(provider) ?? [], standing: standing.get(provider) },
    })
  const providers: Report['providers'][number][] = []
  for (const { provider, endpoints, counted: inAll, cost } of sums) {
    const labels = yield* labelReports(price, provider, inProvider.get(provider) ?? [], { since, until })
    const ofEndpoints: Report['providers'][number]['endpoints'][number][] = []
    for (const one of endpoints) {
      ofEndpoints.push({
        endpoint: one.endpoint,
        ...compare(basis, one.counted, (kind) => cost[kind].byEndpoint.get(one.endpoint) ?? [], time.of(provider, [one])),
      })
      yield
    }
    providers.push({
      provider,
      ...compare(basis, inAll, (kind) => allOf(cost[kind]), time.of(provider, endpoints)),
      endpoints: ofEndpoints,
      ...(labels && { labels }),
      fees: { without: cost.without.fees, with: basis === 'estimated' || inAll.reuse.isUsed ? cost.with.fees : null },
      periods: (basis === 'estimated' || inAll.reuse.isUsed ? cost.with : cost.measured).periods,
      ...(yield* ahead(provider)),
      budgets: budgets.get(provider) ?? [],
      credits: creditsOf(known, provider, rowsMade(inProvider.get(provider) ?? []), ({ tally }, plan) => billedCalls(plan, tally)),
    })
    yield
  }
  const totals = compare(
    basis,
    together(sums.map((one) => one.counted)),
    (kind) => sumOf(sums.map(({ cost }) => allOf(cost[kind]))),
    time.sum(sums.map(({ provider, endpoints }) => time.of(provider, endpoints))),
  )
  const converted = convert(totals, known.rates)
  const due = sums.flatMap(({ cost }) => [...cost.with.due, ...cost.measured.due])
  const spans =
    times && (inSpan.length > 0 || due.length > 0)
      ? yield* spansOf(times, inSpan, Math.min(first, ...due.filter((at) => at >= since)), Math.max(end, ...due.map((at) => at + 1)))
      : undefined
  return {
    since: inSpan.length > 0 ? new Date(first) : null,
    until: inSpan.length > 0 ? new Date(end) : null,
    savedMeans,
    providers,
    ...(spans && {
      times: yield* timesOf(
        { ...price, time },
        sums.map(({ provider }) => provider),
        rows,
        spans,
        { since, until },
      ),
    }),
    totals,
    ...(converted && { converted }),
  }
}

/** What was counted of a provider, and what it cost. */
interface Sum {
  readonly provider: string
  readonly endpoints: readonly { readonly endpoint: string; readonly counted: Counted }[]
  readonly counted: Counted
  readonly cost: Costs<ProviderPrices>
}

/** Finds the fees of providers, each once. */
function feesFinder(known: FactsInForce, timeOf: (provider: string) => { since: number; until: number }): (provider: string) => Fees {
  const found = new Map<string, Fees>()
  return (provider) => {
    const fees = found.get(provider) ?? feesOf(known, provider, timeOf(provider))
    found.set(provider, fees)
    return fees
  }
}

/** An endpoint may hold nothing but what others did. */
function isUsed({ counted: { measure, reuse } }: { readonly counted: Counted }): boolean {
  return measure.isUsed || reuse.isUsed
}

/** The rows of calls made while reusing, else while measuring. */
function rowsMade(rows: readonly TallyRow[]): readonly TallyRow[] {
  const reused = rows.filter(({ mode }) => mode === 'reuse')
  return reused.length > 0 ? reused : rows
}

/** Begins of the first and the last bucket, and the latest end of one. */
function* extentOf(rows: readonly TallyRow[]): Steps<{ first: number; last: number; end: number }> {
  let [first, last, end] = [Number.POSITIVE_INFINITY, Number.NEGATIVE_INFINITY, Number.NEGATIVE_INFINITY]
  yield* forEach(rows, ({ bucket, lengthMs }) => {
    first = Math.min(first, bucket)
    last = Math.max(last, bucket)
    end = Math.max(end, bucket + lengthMs)
  })
  return { first, last, end }
}

/** Begin of the earliest quota and billing period that a report from `since` on has to look at, so that its rows can be read. */
export function rowsSince(facts: readonly BillingFacts[], since: number): number {
  const known = factsInForce(facts)
  const names = [...new Set(facts.map(({ provider }) => provider))]
  const quotas = names.map((provider) => known.quota(provider, since)).filter((quota) => quota !== undefined)
  return Math.min(since, ...quotas.map((quota) => quotaPeriod(quota, since).start), billingSince(known, names, since))
}
