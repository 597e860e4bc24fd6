import { periodAround } from '../time/calendar.js'
import type { CalendarPeriod } from '../time/calendar-period.js'

/** How many calls a provider allows in a period of its calendar. */
export interface Quota {
  readonly calls: number
  readonly per: CalendarPeriod
  /** IANA time zone whose calendar the period follows. */
  readonly zone: string
}

/** The period of a quota that `at` falls in; milliseconds since 1970-01-01T00:00Z, `end` exclusive. */
export function quotaPeriod(quota: Quota, at: number): { start: number; end: number } {
  return periodAround(at, quota.per, quota.zone)
}
