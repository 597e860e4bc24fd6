import { Temporal } from 'temporal-polyfill'
import { type Timetable, weekdays } from './timetable.js'

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
