import { Temporal } from 'temporal-polyfill'
import { periodAround } from './calendar.js'
import { durationMs } from './duration.js'

/** A moment: a `Date`, milliseconds since 1970-01-01T00:00Z, or text, as `momentMs` reads it. */
export type Moment = Date | number | string

/** What a text can be, for messages. */
export const momentForms =
  'ISO 8601, e.g. "2026-06-30T06:00+02:00" or "2026-06-30", or words: "now", "today", "yesterday", "start of month", "7 days ago"'

/**
 * Milliseconds since 1970-01-01T00:00Z of a moment; undefined for what is none. Text is ISO 8601, where a date alone, or a time without an
 * offset, is one of `zone`; or words: `now`, `today`, `yesterday`, `start of day | week | month | year` (weeks begin on Monday), or a duration
 * and `ago`.
 */
export function momentMs(moment: Moment, now: number, zone: string): number | undefined {
  if (moment instanceof Date) return inRange(moment.getTime())
  if (typeof moment !== 'string') return typeof moment === 'number' ? inRange(moment) : undefined
  const text = moment.trim().toLowerCase()
  const [, unit] = /^start of (day|week|month|year)$/.exec(text) ?? []
  if (unit !== undefined) return periodAround(now, unit as 'day' | 'week' | 'month' | 'year', zone).start
  if (text === 'now') return now
  if (text === 'today') return periodAround(now, 'day', zone).start
  if (text === 'yesterday') return periodAround(periodAround(now, 'day', zone).start - 1, 'day', zone).start
  const [, length] = /^(.+) ago$/.exec(text) ?? []
  if (length !== undefined) {
    const ms = durationMs(length)
    return ms === undefined ? undefined : inRange(now - ms)
  }
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
