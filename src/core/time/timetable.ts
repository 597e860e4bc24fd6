import { Temporal } from 'temporal-polyfill'

export const weekdays = ['monday', 'tuesday', 'wednesday', 'thursday', 'friday', 'saturday', 'sunday'] as const
export type Weekday = (typeof weekdays)[number]

/**
 * When a provider publishes anew, by the clock on the wall of a time zone (IANA). Times are `"HH:MM"`. A time that a
 * daylight-saving change leaves out is taken as much later as the clock was moved; of one that comes twice the first counts.
 */
export type Timetable =
  | { readonly daily: string; readonly zone: string; readonly weekly?: undefined; readonly monthly?: undefined; readonly at?: undefined }
  | { readonly weekly: Weekday; readonly at: string; readonly zone: string; readonly daily?: undefined; readonly monthly?: undefined }
  /** The day of the month, 1 to 31; in shorter months their last day. */
  | { readonly monthly: number; readonly at: string; readonly zone: string; readonly daily?: undefined; readonly weekly?: undefined }

/** The first publication after `now`; both in milliseconds since 1970-01-01T00:00Z. */
export function nextPublication(timetable: Timetable, now: number): number {
  const today = Temporal.Instant.fromEpochMilliseconds(now).toZonedDateTimeISO(timetable.zone).toPlainDate()
  const time = Temporal.PlainTime.from(timetable.daily !== undefined ? timetable.daily : timetable.at)
  const on = (day: Temporal.PlainDate) => day.toZonedDateTime({ timeZone: timetable.zone, plainTime: time }).epochMilliseconds
  for (let turn = 0; ; turn++) {
    const at = on(dayOfTurn(timetable, today, turn))
    if (at > now) return at
  }
}

/** The day of this period's publication, then that of the next, and so on. */
function dayOfTurn(timetable: Timetable, today: Temporal.PlainDate, turn: number): Temporal.PlainDate {
  if (timetable.daily !== undefined) return today.add({ days: turn })
  if (timetable.weekly !== undefined) return today.add({ days: weekdays.indexOf(timetable.weekly) + 1 - today.dayOfWeek + 7 * turn })
  return today.with({ day: 1 }).add({ months: turn }).with({ day: timetable.monthly }, { overflow: 'constrain' })
}

export function isTimeOfDay(text: string): boolean {
  return /^([01]\d|2[0-3]):[0-5]\d$/.test(text)
}
