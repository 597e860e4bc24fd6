import type { Money } from '../money/money.js'
import { filtered, forEach, type Steps } from '../steps.js'
import { beginsOf } from '../time/calendar.js'
import { costsOfKinds, type Known } from './costs.js'
import { type Costs, compare, counted, sumOf } from './figures.js'
import { groupsOf } from './group-by.js'
import { grains, momentOf, type TallyRow } from './ledger-row.js'
import { priceTimes } from './provider-prices.js'
import type { ReportInput } from './report-input.js'
import type { TimeReport } from './report-model.js'
import type { TimeSaved } from './time-saved.js'

/** Longer than any day. */
const longestMs = 27 * 3_600_000

/**
 * Begins of the hours or days that are listed separately, and the end of the last of them; where longer buckets were counted, their begins in place
 * of those within.
 */
export function* spansOf(
  { by, zone }: NonNullable<ReportInput['times']>,
  rows: readonly TallyRow[],
  first: number,
  end: number,
): Steps<number[]> {
  const ends = new Map<number, number>() // of buckets that are longer, by their begins
  yield* forEach(rows, ({ grain, bucket, lengthMs }) => {
    if (grains.indexOf(grain) > grains.indexOf(by)) ends.set(bucket, Math.max(bucket + lengthMs, ends.get(bucket) ?? bucket))
  })
  const longer = [...ends]
  const within = (begin: number) => longer.some(([bucket, until]) => begin > bucket && begin < until)
  const begins = [...beginsOf(by, first, end, zone)]
  const [, next = end] = beginsOf(by, begins.at(-1) ?? first, end + longestMs, zone)
  begins.push(Math.max(next, end))
  const starts = ends.keys()
  if (longer.length === 0) return begins
  const spans = [...new Set([...begins.filter((begin) => !within(begin)), ...starts])].sort((a, b) => a - b)
  return spans.slice(spans.findLastIndex((begin) => begin <= first))
}

/** Which of some moments, in their order, is the last up to another; the first, where all are later. */
function placeOf(moment: number, begins: readonly number[]): number {
  let [place, after] = [0, begins.length]
  while (after - place > 1) {
    const middle = (place + after) >> 1
    if ((begins[middle] as number) <= moment) place = middle
    else after = middle
  }
  return place
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
  const reported = yield* filtered(rows, ({ bucket }) => bucket >= from)
  const inTime = yield* groupsOf(reported, (row) => all[placeOf(momentOf(row), all)] as number)
  const byProvider = yield* groupsOf(rows, (row) => row.provider)
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
