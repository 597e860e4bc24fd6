import type { Comparison, Figures, ProviderReport, Report, Without } from '../core/ledger/report-model.js'
import type { Money } from '../core/money/money.js'

/**
 * One line of a report as a flat record. `kind` says of what: `endpoint` (else `label` or `provider`) and `fee`, or `hour` and `day` in their place, have the calls and the
 * money, each once, so that a column can be added up; `period`, `credits` and `rate` have columns of their own, `note` a sentence.
 */
export type ReportRow = Readonly<Partial<Record<(typeof columns)[number], string | number>>>

const sides = ['without', 'with'] as const
const sidedCounts = ['upstream', 'refused', 'failed', 'errored'] as const
const sidedTimes = ['median_ms', 'p95_ms'] as const

/** Counts of calls made with the stash, by column. */
const counts = {
  unmodified: ({ unmodified }: Figures) => unmodified,
  from_store: ({ fromStore }: Figures) => fromStore,
  stale: ({ stale }: Figures) => stale,
  stale_by_choice: ({ staleByChoice }: Figures) => staleByChoice,
  near: ({ near }: Figures) => near,
  far: ({ far }: Figures) => far,
  reread: ({ reread }: Figures) => reread,
  collapsed: ({ collapsed }: Figures) => collapsed,
  first_calls: ({ firstCalls }: Figures) => firstCalls,
  first_wait_ms: ({ firstWaitMs }: Figures) => firstWaitMs,
  fallback: ({ fallback }: Figures) => fallback,
  withheld: ({ withheld }: Figures) => withheld,
  abandoned: ({ abandoned }: Figures) => abandoned,
  changed: ({ changed }: Figures) => changed,
  unchanged: ({ unchanged }: Figures) => unchanged,
  not_stored: ({ notStored }: Figures) => Object.values(notStored).reduce((sum, count) => sum + count, 0),
  evicted: ({ evicted }: Figures) => evicted,
  refetched: ({ refetched }: Figures) => refetched,
  units_unknown: ({ unitsUnknown }: Figures) => unitsUnknown,
  background: ({ background }: Figures) => background,
  repeated: ({ repeated }: Figures) => repeated,
}

/** The columns of flat reports, in their order; their names are stable. */
export const columns = [
  ...(['kind', 'from', 'until', 'provider', 'endpoint', 'label', 'basis', 'asked', 'saved_calls'] as const),
  ...sidedCounts.flatMap((name) => sides.map((side) => `${name}_${side}` as const)),
  ...(Object.keys(counts) as (keyof typeof counts)[]),
  ...(['currency', 'money_without', 'money_with', 'money_saved', 'paid_twice'] as const),
  ...sidedTimes.flatMap((name) => sides.map((side) => `${name}_${side}` as const)),
  ...(['upstream_median_ms', 'upstream_p95_ms', 'age_median_ms', 'age_p95_ms', 'oldest_stale_ms'] as const),
  ...(['billed', 'partial', 'credits_used', 'credits_bought', 'credits_left', 'rate', 'note'] as const),
] as const

/** A report as flat records: its endpoints and fees, or its hours or days; then billing periods, credits, rates and what `saved` means. */
export function reportRows({ since, until, savedMeans, providers, times, converted }: Report): ReportRow[] {
  const span = { from: since?.toISOString() ?? '', until: until?.toISOString() ?? '' }
  const calls = times
    ? times.flatMap((time) =>
        rowsOf({ kind: isHour(time) ? 'hour' : 'day', from: time.from.toISOString(), until: time.until.toISOString() }, time),
      )
    : providers.flatMap((one) => callRows(one, span))
  const bills = providers.flatMap(({ provider, periods, credits }): ReportRow[] => [
    ...periods.map(({ from, until: end, currency, amount, partial }) => ({
      ...{ kind: 'period', from: from.toISOString(), until: end.toISOString(), provider, currency },
      ...{ billed: amount, partial: partial ? 'yes' : 'no' },
    })),
    ...(credits ? [creditsRow(provider, credits)] : []),
  ])
  const rates = Object.entries(converted?.rates ?? {}).map(([currency, rate]) => ({
    ...{ kind: 'rate', currency, rate, note: `${converted?.currency} for one ${currency}` },
  }))
  return [...calls, ...bills, ...rates, { kind: 'note', note: savedMeans }]
}

function isHour({ from, until }: { from: Date; until: Date }): boolean {
  return until.getTime() - from.getTime() <= 3_600_000
}

function creditsRow(provider: string, { used, bought, left }: { used: number; bought: number; left: number }): ReportRow {
  return { kind: 'credits', provider, credits_used: used, credits_bought: bought, credits_left: left }
}

/** The calls stand in the first row; one more for the money of each further currency. */
function rowsOf(place: ReportRow, { without, with: reused, saved }: Comparison): ReportRow[] {
  const moneys = moneyRows({ without: without.money, with: reused?.money ?? [], saved: saved?.money ?? [], twice: reused?.paidTwice ?? [] })
  const [first = {}, ...more] = moneys
  return [
    { ...place, ...callsOf(without, reused), saved_calls: saved?.calls ?? '', ...first },
    ...more.map((money) => ({ ...place, ...money })),
  ]
}

/** The calls of a provider, each in one line: by endpoint and fee; where endpoints are left out, by whose they are, or in one with its fees. */
function callRows({ provider, endpoints, labels, fees, ...whole }: ProviderReport, span: { from: string; until: string }): ReportRow[] {
  const feeRows = moneyRows({ without: fees.without, with: fees.with ?? [] }).map((money) => ({ kind: 'fee', ...span, provider, ...money }))
  const isIdle = [whole.without, whole.with].every((one) => !one || one.asked + one.upstream === 0)
  if (endpoints.length > 0 || isIdle)
    return [...endpoints.flatMap((one) => rowsOf({ kind: 'endpoint', ...span, provider, endpoint: one.endpoint }, one)), ...feeRows]
  if (labels) return [...labels.flatMap((one) => rowsOf({ kind: 'label', ...span, provider, label: one.label ?? '' }, one)), ...feeRows]
  return rowsOf({ kind: 'provider', ...span, provider }, whole)
}

function callsOf(without: Without, reused: Figures | null): ReportRow {
  const bySide = { without, with: reused }
  const sided = sides.flatMap((side) => {
    const figures = bySide[side]
    return [
      ...sidedCounts.map((name) => [`${name}_${side}`, figures?.[name] ?? ''] as const),
      ...sidedTimes.map((name) => [`${name}_${side}`, figures?.latencyMs?.[name === 'median_ms' ? 'median' : 'p95'] ?? ''] as const),
    ]
  })
  const made = reused ?? (without.basis === 'measured' ? without : undefined)
  const counted = made ? Object.entries(counts).map(([name, count]) => [name, count(made)] as const) : []
  return {
    ...{ basis: without.basis, asked: without.asked },
    ...Object.fromEntries([...sided, ...counted]),
    ...{ upstream_median_ms: made?.upstreamMs?.median ?? '', upstream_p95_ms: made?.upstreamMs?.p95 ?? '' },
    ...{ age_median_ms: made?.ageMs?.median ?? '', age_p95_ms: made?.ageMs?.p95 ?? '', oldest_stale_ms: made?.oldestStaleMs ?? '' },
  }
}

type Moneys = Readonly<Record<'without' | 'with', readonly Money[]>> & {
  readonly saved?: readonly Money[]
  readonly twice?: readonly Money[]
}

/** A record for each currency. */
function moneyRows(moneys: Moneys): ReportRow[] {
  const all = [...moneys.without, ...moneys.with, ...(moneys.saved ?? []), ...(moneys.twice ?? [])]
  return [...new Set(all.map(({ currency }) => currency))].sort().map((currency) => {
    const amount = (some: readonly Money[] = []) => some.find((money) => money.currency === currency)?.amount ?? ''
    return {
      ...{ currency, money_without: amount(moneys.without), money_with: amount(moneys.with) },
      ...{ money_saved: amount(moneys.saved), paid_twice: amount(moneys.twice) },
    }
  })
}
