import * as z from 'zod/mini'
import { weekdays } from '../core/time/timetable.js'
import { monthDay, oneOf, required, timeOfDay, zone } from './schema-parts.js'

const timeAt = required(timeOfDay, 'Time of day of the publication, e.g. "06:00".')
const itsZone = required(zone, 'IANA time zone, e.g. "Europe/Oslo".')
const dayOfMonth = z.int({ error: monthDay }).check(z.minimum(1, { error: monthDay }), z.maximum(31, { error: monthDay }))

/** The shape of a `Timetable`. */
export const timetable = z.union([
  z.strictObject({ daily: timeAt, zone: itsZone }),
  z.strictObject({ weekly: required(oneOf(weekdays), 'Day of the week of the publication.'), at: timeAt, zone: itsZone }),
  z.strictObject({ monthly: required(dayOfMonth, 'Day of the month; in shorter months their last.'), at: timeAt, zone: itsZone }),
])
