import { Temporal } from 'temporal-polyfill'
import type { CalendarPeriod } from './calendar-period.js'

/** A stretch of time: its first millisecond, and the first one after it. */
interface Period {
  readonly start: number
  readonly end: number
}

/** Of each kind of period and zone, the one that was asked for last: mostly it is asked for again. */
const latest = new Map<string, Period>()
const mostLatest = 1_000

/** The calendar period of `zone` (IANA) that `at` falls in. Weeks begin on Monday. */
export function periodAround(at: number, per: CalendarPeriod | 'week', zone: string): Period {
  const name = `${per} ${zone}`
  const known = latest.get(name)
  if (known && at >= known.start && at < known.end) return known
  const period = foundPeriod(at, per, zone)
  if (latest.size >= mostLatest) latest.clear()
  latest.set(name, period)
  return period
}

function foundPeriod(at: number, per: CalendarPeriod | 'week', zone: string): Period {
  const day = Temporal.Instant.fromEpochMilliseconds(at).toZonedDateTimeISO(zone).startOfDay()
  const firsts = {
    day: () => day,
    week: () => day.subtract({ days: day.dayOfWeek - 1 }),
    month: () => day.with({ day: 1 }),
    year: () => day.with({ month: 1, day: 1 }),
  }
  const start = firsts[per]().startOfDay()
  const end = start.add({ [`${per}s`]: 1 }).startOfDay()
  return { start: start.epochMilliseconds, end: end.epochMilliseconds }
}

/** The begins of the hours or days of `zone` (IANA) from the one that `from` falls in to the last before `until`. */
export function beginsOf(unit: 'hour' | 'day', from: number, until: number, zone: string): number[] {
  const begins: number[] = []
  let at = Temporal.Instant.fromEpochMilliseconds(from).toZonedDateTimeISO(zone)
  at = unit === 'day' ? at.startOfDay() : at.round({ smallestUnit: 'hour', roundingMode: 'floor' })
  while (at.epochMilliseconds < until) {
    begins.push(at.epochMilliseconds)
    at = unit === 'day' ? at.add({ days: 1 }).startOfDay() : at.add({ hours: 1 })
  }
  return begins
}
