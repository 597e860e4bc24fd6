import type { Money } from '../money/money.js'
import type { Steps } from '../steps.js'
import { beginsOf } from '../time/calendar.js'
import { costsOfKinds, type Known } from './costs.js'
import { type Costs, compare, counted, sumOf } from './figures.js'
import { groupBy } from './group-by.js'
import { grains, type TallyRow } from './ledger-row.js'
import { byTime, priceTimes } from './provider-prices.js'
import type { ReportInput } from './report-input.js'
import type { TimeReport } from './report-model.js'
import type { TimeSaved } from './time-saved.js'

/** Longer than any day. */
const longestMs = 27 * 3_600_000

/**
 * Begins of the hours or days that are listed separately, and the end of the last of them; where longer buckets were counted, their begins in place
 * of those within.
 */
export function spansOf({ by, zone }: NonNullable<ReportInput['times']>, rows: readonly TallyRow[], first: number, end: number): number[] {
  const longer = rows.filter(({ grain }) => grains.indexOf(grain) > grains.indexOf(by))
  const within = (begin: number) => longer.some(({ bucket, lengthMs }) => begin > bucket && begin < bucket + lengthMs)
  const begins = [...beginsOf(by, first, end, zone)]
  const [, next = end] = beginsOf(by, begins.at(-1) ?? first, end + longestMs, zone)
  begins.push(Math.max(next, end))
  const starts = longer.map(({ bucket }) => bucket)
  if (longer.length === 0) return begins
  const spans = [...new Set([...begins.filter((begin) => !within(begin)), ...starts])].sort((a, b) => a - b)
  return spans.slice(spans.findLastIndex((begin) => begin <= first))
}

/** The same calls hour by hour, or day by day. */
export function* timesOf(
  facts: Known & { readonly time: TimeSaved },
  providers: readonly string[],
  rows: readonly TallyRow[],
  spans: readonly number[],
  range: { since: number; until: number },
): Steps<TimeReport[]> {
  const all = spans.slice(0, -1)
  const from = Math.max(range.since, all[0] ?? 0)
  const inTime = byTime(
    rows.filter(({ bucket }) => bucket >= from),
    all,
  )
  const byProvider = new Map(groupBy(rows, (row) => row.provider))
  const perProvider: Costs<Map<number, Money[]>>[] = []
  for (const provider of providers) {
    const price = (some: readonly TallyRow[], how: Parameters<Parameters<typeof costsOfKinds>[3]>[1]) =>
      priceTimes(facts.known, { provider, rows: some, since: range.since, until: range.until, ...how }, all)
    perProvider.push(yield* costsOfKinds(facts, provider, byProvider.get(provider) ?? [], price))
  }
  const times: TimeReport[] = []
  for (const [i, begin] of all.entries()) {
    const its = inTime.get(begin) ?? []
    const end = spans[i + 1] as number
    times.push({
      ...{ from: new Date(begin), until: new Date(end) },
      partial: begin < range.since || end > range.until,
      ...compare(
        facts.basis,
        counted(its, facts),
        (kind) => sumOf(perProvider.map((costs) => costs[kind].get(begin) ?? [])),
        facts.time.ofRows(its),
        facts.isTwice || undefined,
      ),
    })
    yield
  }
  return times
}
