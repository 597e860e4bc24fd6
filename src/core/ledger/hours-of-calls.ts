import type { HourOfCalls } from '../limits/call-series.js'
import { forEach, type Steps } from '../steps.js'
import type { TallyRow } from './ledger-row.js'

const hourMs = 3_600_000

/** Whole hours before `until`, from the first in which anything was called on; longer buckets are spread evenly. */
export function* hoursOf(rows: readonly TallyRow[], count: (row: TallyRow) => number, until: number): Steps<HourOfCalls[]> {
  const end = Math.floor(until / hourMs)
  const first = rows.reduce((earliest, { bucket }) => Math.min(earliest, Math.ceil(bucket / hourMs)), end)
  const calls = new Map<number, number>()
  yield* forEach(rows, (row) => {
    const hours = Math.max(1, Math.round(row.lengthMs / hourMs))
    const inEach = count(row) / hours
    for (let i = 0; i < hours; i++) {
      const hour = Math.floor(row.bucket / hourMs) + i
      calls.set(hour, (calls.get(hour) ?? 0) + inEach)
    }
  })
  return Array.from({ length: Math.max(0, end - first) }, (_, i) => ({ at: (first + i) * hourMs, calls: calls.get(first + i) ?? 0 }))
}
