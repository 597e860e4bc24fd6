import { Temporal } from 'temporal-polyfill'

export const calendarPeriods = ['day', 'month', 'year'] as const
export type CalendarPeriod = (typeof calendarPeriods)[number]

/** The calendar period of `zone` (IANA) that `at` falls in: its first millisecond, and the first one after it. Weeks begin on Monday. */
export function periodAround(at: number, per: CalendarPeriod | 'week', zone: string): { start: number; end: number } {
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

export function isTimeZone(zone: unknown): zone is string {
  if (typeof zone !== 'string') return false
  try {
    new Intl.DateTimeFormat('en', { timeZone: zone })
    return true
  } catch {
    return false
  }
}
