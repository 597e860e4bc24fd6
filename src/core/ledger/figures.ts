import { type Money, MoneySum } from '../money/money.js'
import type { FactsInForce } from './facts-in-force.js'
import type { Histogram } from './histogram.js'
import type { TallyRow } from './ledger-row.js'
import type { AgeChanges, Avoided, Comparison, Figures, Percentiles, Without } from './report-model.js'
import { Tally } from './tally.js'
import { callsWithout, savedCalls, wouldAvoid } from './without.js'

/**
 * What the calls of a provider cost: those measured; those without the stash and those made with it, as the basis says; the latter had none been
 * made again for an evicted answer; and those measured had those not been made that reuse would have avoided.
 */
export type Costs<T> = Readonly<Record<'measured' | 'without' | 'with' | 'onceOnly' | 'avoided', T>>
export type CostOf = (kind: keyof Costs<unknown>) => readonly Money[]

/**
 * What a report compares. `measured`: the calls made while measuring with those made while reusing, which were the same. `estimated`: all that
 * were made, in either mode, with what would have been made without the stash.
 */
export type Basis = 'measured' | 'estimated'

/** What was counted of some calls, by mode, and of those of reusing: what would have left without the stash, was saved, and limits would have refused. */
export interface Counted {
  readonly measure: Tally
  readonly reuse: Tally
  readonly without: number
  readonly saved: number
  readonly refused: number
}

/** Counts rows together. `over`: calls of each row that limits would have refused and that are not settled in it. */
export function counted(
  rows: readonly TallyRow[],
  { over, known }: { readonly over: ReadonlyMap<TallyRow, number>; readonly known: FactsInForce },
): Counted {
  const sums = { measure: new Tally(true), reuse: new Tally(true) }
  const counts = { without: 0, saved: 0, refused: 0 }
  for (const row of rows) {
    sums[row.mode].merge(row.tally)
    if (row.mode === 'measure') continue
    const plan = known.plan(row.provider, row.bucket) ?? {}
    counts.without += callsWithout(row.tally, plan)
    counts.saved += savedCalls(row.tally, plan)
    counts.refused += row.tally.overLimit + (over.get(row) ?? 0)
  }
  return { ...sums, ...counts }
}

/** Counts what was counted of several endpoints together. */
export function together(all: readonly Counted[]): Counted {
  const sums = { measure: new Tally(true), reuse: new Tally(true) }
  for (const one of all) for (const mode of ['measure', 'reuse'] as const) sums[mode].merge(one[mode])
  const sum = (name: 'without' | 'saved' | 'refused') => all.reduce((total, one) => total + one[name], 0)
  return { ...sums, without: sum('without'), saved: sum('saved'), refused: sum('refused') }
}

/** The basis of a report on some endpoints: measured where each was asked as often while measuring as while reusing, or only measured. */
export function basisOf(endpoints: readonly Counted[]): Basis {
  if (!endpoints.some(({ reuse }) => reuse.isUsed)) return 'measured'
  const isMeasured = endpoints.some(({ measure }) => measure.asked > 0)
  return isMeasured && endpoints.every(({ measure, reuse }) => measure.asked === reuse.asked) ? 'measured' : 'estimated'
}

/** The same calls without and with the stash; `timeMs`: how much longer callers would have waited; `isReused`: whether any were made with it. */
export function compare(basis: Basis, all: Counted, costOf: CostOf, timeMs: number | null, isReused = all.reuse.isUsed): Comparison {
  const { measure, reuse } = all
  const measured = figuresOfTally(measure, costOf('measured'), [])
  const couldSave: Avoided | null = measure.isUsed
    ? {
        calls: measured.wouldHit,
        upstreamCalls: wouldAvoid(measure, 'all'),
        money: difference(costOf('measured'), costOf('avoided')),
        timeMs: null,
      }
    : null
  if (!isReused && basis === 'measured') return { without: { basis, ...measured }, with: null, saved: null, couldSave }
  const paidTwice = reuse.refetched > 0 ? difference(costOf('with'), costOf('onceOnly')) : []
  const made =
    basis === 'measured'
      ? reuse
      : together([
          { ...all, measure: new Tally(true) },
          { ...all, reuse: measure },
        ]).reuse
  const withIt = figuresOfTally(made, costOf('with'), paidTwice)
  const without: Without = basis === 'measured' ? { basis, ...measured } : estimated(withIt, all, costOf('without'))
  const upstreamCalls = without.upstream - withIt.upstream
  const saved = { calls: all.saved, upstreamCalls, money: difference(without.money, withIt.money), timeMs }
  return { without, with: withIt, saved, couldSave }
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

/** The calls that would have left without the stash, as far as can be known: those that limits would have refused are left out. */
function estimated({ asked, upstreamMs }: Figures, { measure, without, refused }: Counted, money: readonly Money[]): Without {
  const upstream = measure.upstream + without
  return { basis: 'estimated', asked, upstream, refused, failed: null, errored: null, money, latencyMs: upstreamMs }
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
export function microsSaved({ hit, staleByChoice, collapsed, avoidedMicros }: Tally, mean: number): number {
  return (hit + staleByChoice + collapsed) * mean - avoidedMicros
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
    staleByChoice: tally.staleByChoice,
    oldestStaleMs: tally.stale > 0 ? tally.oldestStaleMs : null,
    ...{ near: tally.near, far: tally.far, reread: tally.reread },
    ageMs: percentiles(tally.age),
    ...{ firstCalls: tally.first, firstWaitMs: Math.round(tally.firstMicros / 1000) },
    fallback: tally.fallback,
    collapsed: tally.collapsed,
    errored: tally.errored,
    abandoned: tally.abandoned,
    withheld: tally.withheld,
    upstreamAbandoned: tally.upAbandoned,
    changed: tally.changed,
    unchanged: tally.unchanged,
    changes: changesByAge(tally),
    corrupt: tally.corrupt,
    notStored: tally.notStored,
    evicted: tally.evicted,
    trimmed: tally.trimmed,
    refetched: tally.refetched,
    paidTwice,
    unitsUnknown: tally.unitsUnknown,
    wouldHit: tally.wouldHit,
    wouldRefresh: tally.wouldRefresh,
    wouldRepeat: tally.wouldRepeat,
    wouldBeOutdated: tally.wouldBeOutdated,
    money,
    latencyMs: percentiles(tally.latency),
    upstreamMs: percentiles(tally.upLatency),
  }
}

/** Ages by which changes are distinguished, milliseconds: a minute, ten, an hour, six, a day, a week, and all beyond. */
const changeAges = [60_000, 600_000, 3_600_000, 21_600_000, 86_400_000, 604_800_000, null]

function changesByAge({ changedAge, unchangedAge }: Tally): AgeChanges[] {
  let [changedBefore, unchangedBefore] = [0, 0]
  return changeAges
    .map((upToMs): AgeChanges => {
      const upTo = upToMs ?? Number.MAX_VALUE
      const [changed, unchanged] = [changedAge.countUpTo(upTo), unchangedAge.countUpTo(upTo)]
      const its = { upToMs, changed: changed - changedBefore, unchanged: unchanged - unchangedBefore }
      ;[changedBefore, unchangedBefore] = [changed, unchanged]
      return its
    })
    .filter(({ changed, unchanged }) => changed + unchanged > 0)
}

function percentiles(histogram: Histogram): Percentiles | null {
  const [median, p95] = [histogram.quantile(0.5), histogram.quantile(0.95)]
  return median === undefined || p95 === undefined ? null : { median: hundredths(median), p95: hundredths(p95) }
}

function hundredths(ms: number): number {
  return Math.round(ms * 100) / 100
}
