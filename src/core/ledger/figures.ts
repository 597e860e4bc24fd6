import { type Money, MoneySum } from '../money/money.js'
import type { Histogram } from './histogram.js'
import type { LedgerMode, LedgerRow } from './ledger-row.js'
import type { Comparison, Figures, Percentiles, Spared, Without } from './report-model.js'
import { Tally } from './tally.js'

/** What the calls of a provider cost: made while measuring and while reusing, had all that were asked while reusing been made, and had those
 * measured not been made that reuse would have spared. */
export type Costs<T> = Readonly<Record<'measured' | 'reused' | 'asked' | 'spared', T>>
export type CostOf = (kind: keyof Costs<unknown>) => readonly Money[]

/** The same calls without and with the stash. `overLimit`: how many of each row's would have been refused had all gone upstream. */
export function compare(rows: readonly LedgerRow[], costOf: CostOf, overLimit: ReadonlyMap<LedgerRow, number>): Comparison {
  const measured = figuresOf(rows, 'measure', costOf('measured'))
  const reused = figuresOf(rows, 'reuse', costOf('reused'))
  const couldSave: Spared | null = measured
    ? { upstreamCalls: measured.wouldHit, money: difference(costOf('measured'), costOf('spared')), timeMs: null }
    : null
  if (!reused) return { without: { basis: 'measured', ...(measured ?? noFigures) }, with: null, saved: null, couldSave }
  const without: Without =
    measured?.asked === reused.asked ? { basis: 'measured', ...measured } : reckoned(reused, costOf('asked'), rows, overLimit)
  const saved = {
    upstreamCalls: without.upstream - reused.upstream,
    money: difference(without.money, reused.money),
    timeMs: timeSaved(rows),
  }
  return { without, with: reused, saved, couldSave }
}

export function sumOf(moneys: readonly (readonly Money[])[]): Money[] {
  const sum = new MoneySum()
  for (const money of moneys) sum.addAll(money)
  return sum.toMoney()
}

function difference(more: readonly Money[], less: readonly Money[]): Money[] {
  const sum = new MoneySum()
  sum.addAll(more)
  sum.addAll(less, -1)
  return sum.toMoney()
}

/** Every call asked, as if it had gone upstream, but those that limits would have refused. */
function reckoned(
  { asked, upstreamMs }: Figures,
  money: readonly Money[],
  rows: readonly LedgerRow[],
  overLimit: ReadonlyMap<LedgerRow, number>,
): Without {
  const refused = rows.reduce((sum, row) => sum + row.tally.overLimit + (overLimit.get(row) ?? 0), 0)
  return { basis: 'reckoned', asked, upstream: asked, refused, failed: null, letDown: null, money, latencyMs: upstreamMs }
}

/**
 * How much longer callers would have waited: for each endpoint the mean time of its answered upstream calls, for every call that was
 * answered from store or by another's call, less what these took. Undefined where no upstream call was answered.
 */
function timeSaved(rows: readonly LedgerRow[]): number | null {
  const byEndpoint = new Map<string, Tally>()
  for (const { provider, endpoint, mode, tally } of rows) {
    const name = JSON.stringify([provider, endpoint])
    const sum = byEndpoint.get(name) ?? new Tally()
    byEndpoint.set(name, sum)
    sum.upMicros += tally.upMicros
    sum.upAnswered += tally.upAnswered
    if (mode !== 'reuse') continue
    sum.hit += tally.hit + tally.stale + tally.collapsed
    sum.sparedMicros += tally.sparedMicros
  }
  const known = [...byEndpoint.values()].filter(({ upAnswered, upMicros }) => upAnswered > 0 && upMicros > 0)
  if (known.length === 0) return null
  return Math.round(
    known.reduce((sum, { hit, upMicros, upAnswered, sparedMicros }) => sum + (hit * upMicros) / upAnswered - sparedMicros, 0) / 1000,
  )
}

function figuresOf(rows: readonly LedgerRow[], mode: LedgerMode, money: readonly Money[]): Figures | undefined {
  const total = new Tally()
  for (const row of rows) if (row.mode === mode) total.merge(row.tally)
  return total.asked + total.upstream > 0 ? figuresOfTally(total, money) : undefined
}

function figuresOfTally(tally: Tally, money: readonly Money[]): Figures {
  return {
    asked: tally.asked,
    upstream: tally.upstream,
    unmodified: tally.upUnmodified,
    refused: tally.upRefused,
    failed: tally.upFailed,
    background: tally.upBackground,
    repeated: tally.upRepeated,
    fromStore: tally.hit,
    stale: tally.stale,
    oldestStaleMs: tally.stale > 0 ? tally.oldestStaleMs : null,
    ageMs: percentiles(tally.age),
    otherwise: tally.otherwise,
    collapsed: tally.collapsed,
    letDown: tally.letDown,
    changed: tally.changed,
    unchanged: tally.unchanged,
    corrupt: tally.corrupt,
    wouldHit: tally.wouldHit,
    money,
    latencyMs: percentiles(tally.latency),
    upstreamMs: percentiles(tally.upLatency),
  }
}

const noFigures = figuresOfTally(new Tally(), [])

function percentiles(histogram: Histogram): Percentiles | null {
  const [median, p95] = [histogram.quantile(0.5), histogram.quantile(0.95)]
  return median === undefined || p95 === undefined ? null : { median: hundredths(median), p95: hundredths(p95) }
}

function hundredths(ms: number): number {
  return Math.round(ms * 100) / 100
}
