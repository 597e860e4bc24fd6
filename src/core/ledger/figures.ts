import { type Money, MoneySum } from '../money/money.js'
import type { Histogram } from './histogram.js'
import type { TallyRow } from './ledger-row.js'
import type { Avoided, Comparison, Figures, Percentiles, Without } from './report-model.js'
import { Tally } from './tally.js'

/**
 * What the calls of a provider cost: made while measuring and while reusing, had all that were asked while reusing been made, had none been made
 * again for an evicted answer, and had those measured not been made that reuse would have avoided.
 */
export type Costs<T> = Readonly<Record<'measured' | 'reused' | 'asked' | 'onceOnly' | 'avoided', T>>
export type CostOf = (kind: keyof Costs<unknown>) => readonly Money[]

/** What was counted of some calls, by mode; `refused`: how many of those asked while reusing limits would have refused. */
export interface Counted {
  readonly measure: Tally
  readonly reuse: Tally
  readonly refused: number
}

/** Counts rows together. `over`: calls of each row that limits would have refused and that are not settled in it. */
export function counted(rows: readonly TallyRow[], over: ReadonlyMap<TallyRow, number>): Counted {
  const sums = { measure: new Tally(true), reuse: new Tally(true) }
  let refused = 0
  for (const row of rows) {
    sums[row.mode].merge(row.tally)
    if (row.mode === 'reuse') refused += row.tally.overLimit + (over.get(row) ?? 0)
  }
  return { ...sums, refused }
}

/** Counts what was counted of several endpoints together. */
export function together(all: readonly Counted[]): Counted {
  const sums = { measure: new Tally(true), reuse: new Tally(true) }
  for (const one of all) for (const mode of ['measure', 'reuse'] as const) sums[mode].merge(one[mode])
  return { ...sums, refused: all.reduce((sum, { refused }) => sum + refused, 0) }
}

/** The same calls without and with the stash; `timeMs`: how much longer callers would have waited. */
export function compare({ measure, reuse, refused }: Counted, costOf: CostOf, timeMs: number | null): Comparison {
  const measured = figuresOf(measure, costOf('measured'))
  const paidTwice = reuse.refetched > 0 ? difference(costOf('reused'), costOf('onceOnly')) : []
  const reused = figuresOf(reuse, costOf('reused'), paidTwice)
  const couldSave: Avoided | null = measured
    ? { upstreamCalls: measured.wouldHit, money: difference(costOf('measured'), costOf('avoided')), timeMs: null }
    : null
  if (!reused) return { without: { basis: 'measured', ...(measured ?? noFigures) }, with: null, saved: null, couldSave }
  const without: Without =
    measured?.asked === reused.asked ? { basis: 'measured', ...measured } : estimated(reused, costOf('asked'), refused)
  const saved = { upstreamCalls: without.upstream - reused.upstream, money: difference(without.money, reused.money), timeMs }
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
function estimated({ asked, upstreamMs }: Figures, money: readonly Money[], refused: number): Without {
  return { basis: 'estimated', asked, upstream: asked, refused, failed: null, errored: null, money, latencyMs: upstreamMs }
}

/** The mean time of an endpoint's answered upstream calls, microseconds; undefined where none was answered. */
export function meanMicros({ measure, reuse }: Counted): number | undefined {
  const answered = measure.upAnswered + reuse.upAnswered
  const micros = measure.upMicros + reuse.upMicros
  return answered === 0 || micros === 0 ? undefined : micros / answered
}

/**
 * How much longer callers would have waited: the mean time of an endpoint's upstream calls for every call that was answered from store or by
 * another's call, less what these took; microseconds.
 */
export function microsSaved({ hit, stale, collapsed, avoidedMicros }: Tally, mean: number): number {
  return (hit + stale + collapsed) * mean - avoidedMicros
}

function figuresOf(tally: Tally, money: readonly Money[], paidTwice: readonly Money[] = []): Figures | undefined {
  return tally.isUsed ? figuresOfTally(tally, money, paidTwice) : undefined
}

function figuresOfTally(tally: Tally, money: readonly Money[], paidTwice: readonly Money[]): Figures {
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
    fallback: tally.fallback,
    collapsed: tally.collapsed,
    errored: tally.errored,
    abandoned: tally.abandoned,
    upstreamAbandoned: tally.upAbandoned,
    changed: tally.changed,
    unchanged: tally.unchanged,
    corrupt: tally.corrupt,
    notStored: tally.notStored,
    evicted: tally.evicted,
    trimmed: tally.trimmed,
    refetched: tally.refetched,
    paidTwice,
    wouldHit: tally.wouldHit,
    money,
    latencyMs: percentiles(tally.latency),
    upstreamMs: percentiles(tally.upLatency),
  }
}

const noFigures = figuresOfTally(new Tally(), [], [])

function percentiles(histogram: Histogram): Percentiles | null {
  const [median, p95] = [histogram.quantile(0.5), histogram.quantile(0.95)]
  return median === undefined || p95 === undefined ? null : { median: hundredths(median), p95: hundredths(p95) }
}

function hundredths(ms: number): number {
  return Math.round(ms * 100) / 100
}
