import { Temporal } from 'temporal-polyfill'

export const calendarPeriods = ['day', 'month', 'year'] as const
export type CalendarPeriod = (typeof calendarPeriods)[number]

/** The calendar period of `zone` (IANA) that `at` falls in: its first millisecond, and the first one after it. */
export function periodAround(at: number, per: CalendarPeriod, zone: string): { start: number; end: number } {
  const day = Temporal.Instant.fromEpochMilliseconds(at).toZonedDateTimeISO(zone).startOfDay()
  const first = per === 'day' ? day : per === 'month' ? day.with({ day: 1 }) : day.with({ month: 1, day: 1 })
  const start = first.startOfDay()
  const end = start.add(per === 'day' ? { days: 1 } : per === 'month' ? { months: 1 } : { years: 1 }).startOfDay()
  return { start: start.epochMilliseconds, end: end.epochMilliseconds }
}

export function isTimeZone(zone: string): boolean {
  try {
    new Intl.DateTimeFormat('en', { timeZone: zone })
    return true
  } catch {
    return false
  }
}
