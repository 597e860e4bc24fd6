import type { Comparison, Figures, Report, Without } from '../core/ledger/report-model.js'

/** One line of a report as a flat record: an endpoint, a provider, all calls or those of an hour or day, without or with the stash. Unknown figures are empty. */
export type ReportRow = Readonly<Record<(typeof columns)[number], string | number>>

/** The columns of flat reports, in their order; their names are stable. */
export const columns = [
  'from',
  'until',
  'provider',
  'endpoint',
  'side',
  'basis',
  'asked',
  'upstream',
  'unmodified',
  'refused',
  'failed',
  'from_store',
  'stale',
  'oldest_stale_ms',
  'collapsed',
  'fallback',
  'failed_calls',
  'abandoned',
  'changed',
  'unchanged',
  'not_stored',
  'evicted',
  'refetched',
  'background',
  'repeated',
  'currency',
  'money',
  'paid_twice',
  'median_ms',
  'p95_ms',
  'upstream_median_ms',
  'upstream_p95_ms',
  'age_median_ms',
  'age_p95_ms',
] as const

/** A report as flat records: each endpoint, then each provider, then all, then each hour or day; one more for each further currency. */
export function reportRows({ since, until, providers, totals, times = [] }: Report): ReportRow[] {
  const whole = { from: since?.toISOString() ?? '', until: until?.toISOString() ?? '' }
  return [
    ...providers.flatMap(({ provider, endpoints, ...inAll }) => [
      ...endpoints.flatMap((one) => rowsOf({ ...whole, provider, endpoint: one.endpoint }, one)),
      ...rowsOf({ ...whole, provider, endpoint: '' }, inAll),
    ]),
    ...rowsOf({ ...whole, provider: '', endpoint: '' }, totals),
    ...times.flatMap((time) =>
      rowsOf({ from: time.from.toISOString(), until: time.until.toISOString(), provider: '', endpoint: '' }, time),
    ),
  ]
}

type Place = Pick<ReportRow, 'from' | 'until' | 'provider' | 'endpoint'>

function rowsOf(place: Place, { without, with: reused }: Comparison): ReportRow[] {
  const sides: (readonly [string, string, Figures | Without])[] = [
    ['without', without.basis, without],
    ...(reused ? [['with', 'measured', reused] as const] : []),
  ]
  return sides.flatMap(([side, basis, figures]) => {
    const moneys = figures.money.length > 0 ? figures.money : [undefined]
    return moneys.map((money) => ({
      ...place,
      ...{ side, basis },
      ...countsOf(figures),
      ...{ currency: money?.currency ?? '', money: money?.amount ?? '' },
      paid_twice: ('paidTwice' in figures && figures.paidTwice.find(({ currency }) => currency === money?.currency)?.amount) || '',
      ...{ median_ms: figures.latencyMs?.median ?? '', p95_ms: figures.latencyMs?.p95 ?? '' },
      ...timesOf(figures),
    }))
  })
}

function timesOf(figures: Figures | Without) {
  const { upstreamMs, ageMs } = 'upstreamMs' in figures ? figures : { upstreamMs: null, ageMs: null }
  return {
    ...{ upstream_median_ms: upstreamMs?.median ?? '', upstream_p95_ms: upstreamMs?.p95 ?? '' },
    ...{ age_median_ms: ageMs?.median ?? '', age_p95_ms: ageMs?.p95 ?? '' },
  }
}

function countsOf(figures: Figures | Without) {
  const known = 'fromStore' in figures ? figures : undefined
  return {
    ...{ asked: figures.asked, upstream: figures.upstream, unmodified: known?.unmodified ?? '' },
    ...{ refused: figures.refused ?? '', failed: figures.failed ?? '', from_store: known?.fromStore ?? '', stale: known?.stale ?? '' },
    ...{ oldest_stale_ms: known?.oldestStaleMs ?? '', collapsed: known?.collapsed ?? '', fallback: known?.fallback ?? '' },
    ...{
      failed_calls: figures.errored ?? '',
      abandoned: known?.abandoned ?? '',
      changed: known?.changed ?? '',
      unchanged: known?.unchanged ?? '',
    },
    not_stored: known ? Object.values(known.notStored).reduce((sum, count) => sum + count, 0) : '',
    ...{ evicted: known?.evicted ?? '', refetched: known?.refetched ?? '' },
    ...{ background: known?.background ?? '', repeated: known?.repeated ?? '' },
  }
}
