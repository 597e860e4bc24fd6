import { Temporal } from 'temporal-polyfill'
import { periodAround } from './calendar.js'
import { shifted } from './duration.js'

/** A moment: a `Date`, milliseconds since 1970-01-01T00:00Z, or text, as `momentMs` reads it. */
export type Moment = Date | number | string

/** What a text can be, for messages. */
export const momentForms =
  'ISO 8601, e.g. "2026-06-30T06:00+02:00" or "2026-06-30", or words: "now", "today", "yesterday", "last week", "start of month", "7 days ago", "7d"'

/**
 * Milliseconds since 1970-01-01T00:00Z of a moment; undefined for what is none. Text is ISO 8601, where a date alone, or a time without an
 * offset, is one of `zone`; or words: `now`, `today`, `yesterday`, `start of day | week | month | year` and `last ...` (which began before that one; weeks begin on Monday), or how long ago it was: a duration, with or
 * without `ago`.
 */
export function momentMs(moment: Moment, now: number, zone: string): number | undefined {
  if (moment instanceof Date) return inRange(moment.getTime())
  if (typeof moment !== 'string') return typeof moment === 'number' ? inRange(moment) : undefined
  const text = moment.trim().toLowerCase()
  const [, which, unit = 'day'] = /^(?:(start of|last) (day|week|month|year)|yesterday)$/.exec(text) ?? []
  if (which !== undefined || text === 'yesterday') {
    const { start } = periodAround(now, unit as 'day', zone)
    return which === 'start of' ? start : periodAround(start - 1, unit as 'day', zone).start
  }
  if (text === 'now') return now
  if (text === 'today') return periodAround(now, 'day', zone).start
  const ago = text.startsWith('forever') ? undefined : shifted(now, text.replace(/ ago$/, ''), -1)
  if (ago !== undefined) return inRange(ago)
  return isoMs(moment.trim(), zone)
}

function isoMs(text: string, zone: string): number | undefined {
  if (!/^\d{4}-\d{2}-\d{2}/.test(text)) return undefined
  try {
    if (/(z|[+-]\d{2}:?\d{2})$/i.test(text) && text.length > 10) return inRange(Date.parse(text))
    return inRange(Temporal.PlainDateTime.from(text).toZonedDateTime(zone).epochMilliseconds)
  } catch {
    return undefined
  }
}

/** The years 1 to 9999, in which every calendar period has a begin and an end. */
const [first, last] = [Date.parse('0001-01-02T00:00Z'), Date.parse('9999-12-30T00:00Z')]

function inRange(ms: number): number | undefined {
  return ms >= first && ms <= last ? ms : undefined
}
