import { parse } from '@lukeed/ms'

/**
 * A length of time: a number and a unit (`ms`, `s`, `min`, `h`, `days`, `weeks`, `months`, `years`), such as `"30 days"`, `"90 s"` or `"1 year"`
 * (365.25 days); or `"forever"` (1,000 years). A month is a calendar month where an answer is fresh for it, and 31 days elsewhere. Only 0 needs no unit.
 */
export type Duration = string | 0

const dayMs = 86_400_000
const longestMonthDays = 31
const foreverMs = 1_000 * 365.25 * dayMs

/** What a duration can be, for messages. */
export const durationForms = 'a number and a unit, e.g. "30 s", "5 min", "1 day", "1 month", or "forever"'

/** Milliseconds of a duration, at the most, or undefined if it is none or negative. */
export function durationMs(value: unknown): number | undefined {
  if (value === 0) return 0
  const parts = partsOf(value)
  return parts && parts.ms + parts.months * longestMonthDays * dayMs
}

/** When what begins at `from` is over; before it, when what ended then began: milliseconds since 1970-01-01T00:00Z. Months are those of the calendar, in UTC. */
export function shifted(from: number, by: Duration, sign: 1 | -1 = 1): number | undefined {
  const parts = by === 0 ? { months: 0, ms: 0 } : partsOf(by)
  return parts && monthsFrom(from, sign * parts.months) + sign * parts.ms
}

/** A bare number in a string has no unit and is refused: seconds and milliseconds are too easily confused. */
function partsOf(value: unknown): { months: number; ms: number } | undefined {
  if (typeof value !== 'string') return undefined
  if (/^\s*forever\s*$/i.test(value)) return { months: 0, ms: foreverMs }
  const [, count, unit] = /^\s*(\d+(?:\.\d+)?|\.\d+)\s*([a-z]+)\s*$/i.exec(value) ?? []
  if (unit === undefined) return undefined
  if (/^months?$/i.test(unit)) return Number.isInteger(Number(count)) ? { months: Number(count), ms: 0 } : undefined
  const ms = Number(count) * (parse(`1 ${unit}`) ?? Number.NaN)
  return Number.isFinite(ms) ? { months: 0, ms: Math.min(ms, foreverMs) } : undefined
}

/** The same day and time some months on, or the last day of a month that is too short for it. */
function monthsFrom(from: number, months: number): number {
  if (months === 0) return from
  const date = new Date(from)
  const day = date.getUTCDate()
  date.setUTCDate(1)
  date.setUTCMonth(date.getUTCMonth() + months)
  const last = new Date(Date.UTC(date.getUTCFullYear(), date.getUTCMonth() + 1, 0)).getUTCDate()
  return date.setUTCDate(Math.min(day, last))
}
