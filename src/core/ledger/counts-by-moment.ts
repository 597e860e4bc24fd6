import { Temporal } from 'temporal-polyfill'
import { momentOf, type TallyRow } from './ledger-row.js'
import { Tally } from './tally.js'
import { countNames } from './tally-data.js'

/** Counts of all endpoints together by the moments that they count for, without times. */
export function byMoment(rows: readonly TallyRow[]): Map<number, Tally> {
  const moments = new Map<number, Tally>()
  for (const row of rows) {
    const at = momentOf(row)
    const sum = moments.get(at) ?? new Tally()
    moments.set(at, sum)
    addCounts(sum, row.tally)
  }
  return moments
}

/** Adds counts alone, without times. */
export function addCounts(sum: Tally, more: Tally): void {
  for (const name of countNames) sum[name] += more[name]
}

/** Finds the days of a zone that moments fall in, each once. */
export function daysOfZone(zone: string): (at: number) => string {
  const known = new Map<number, string>()
  return (at) => {
    const day = known.get(at) ?? Temporal.Instant.fromEpochMilliseconds(at).toZonedDateTimeISO(zone).toPlainDate().toString()
    known.set(at, day)
    return day
  }
}
