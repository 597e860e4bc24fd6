import { Temporal } from 'temporal-polyfill'
import { byHour, CallSeries, type Expected, type HourOfCalls, inAll } from './call-series.js'
import { restOfDay } from './rest-of-day.js'
import { weeklyTrend } from './week-trend.js'

/** Numbers of calls: eight times in ten it will be from `low` to `high`; these are null where too little is known to say. */
export interface CallRange {
  readonly low: number | null
  readonly likely: number
  readonly high: number | null
}

/**
 * What a forecast is drawn from. `same-day`: the same weekdays before, as this day is busier or quieter so far than they were. `weekly-trend`:
 * the same hours of the weeks before, and how these grow or shrink. Too little for a range are `same-hours`: the mean of the same hours of the
 * week; and `even-pace`: the mean of all hours, of less than a week.
 */
export type ForecastMethod = 'same-day' | 'weekly-trend' | 'same-hours' | 'even-pace'

/** How many calls there will be up to a moment if they go on as they did. */
export interface CallForecast {
  readonly method: ForecastMethod
  /** How long a time it is drawn from, milliseconds. */
  readonly drawnFromMs: number
  readonly usedNow: number
  readonly usedAtEnd: CallRange
  /** Calls used up to some moments of the time left, its end the last. */
  readonly course: readonly ({ readonly at: Date } & CallRange)[]
}

/** How a quota will be used up to its reset if calls go on as they did. */
export interface QuotaForecast extends Omit<CallForecast, 'usedAtEnd'> {
  readonly usedAtReset: CallRange
  /** Never less than none. */
  readonly leftAtReset: CallRange
  /** When it runs out; null where it does not before the reset, or that is not known. */
  readonly runsOutAt: { readonly earliest: Date | null; readonly likely: Date | null; readonly latest: Date | null }
}

export interface ForecastInput {
  /** Calls used in the period up to `now`, in whose midst it lies. */
  readonly used: number
  readonly now: number
  readonly end: number
  /** Whole hours before `now`, without gaps, in the order of time: those in which nothing was called too. */
  readonly hours: readonly HourOfCalls[]
  /** IANA time zone of days. */
  readonly zone: string
  /** More calls than this cannot be made; default: any number can. */
  readonly most?: number
}

const hourMs = 3_600_000
const dayMs = 24 * hourMs
const weekMs = 7 * dayMs
/** Fewer hours than this tell nothing. */
const fewestHours = 3
/** Moments of a course, at the most. */
const mostPoints = 60
/** How far ahead a trend is followed, by the length of time that it is drawn from. */
const furthest = 1.5

/** Forecasts how many calls there will be; undefined where there is too little to tell. */
export function forecastCalls(input: ForecastInput): CallForecast | undefined {
  const { used, now, end, hours, most = Number.POSITIVE_INFINITY } = input
  if (hours.length < fewestHours || now >= end) return undefined
  const series = new CallSeries(hours)
  const { method, likely, low, high, shape } = expected(series, input)
  const whole = inAll(shape, now, end)
  const upTo = (calls: number, part: number) => Math.min(Math.max(used, most), used + Math.max(0, calls) * part)
  const at = (part: number): CallRange => ({
    low: low === null ? null : Math.floor(upTo(low, part)),
    likely: Math.round(upTo(likely, part)),
    high: high === null ? null : Math.ceil(upTo(high, part)),
  })
  let sum = 0
  const course = byHour(now, end).map(([from, to]) => {
    sum += shape(from, to)
    const part = to === end ? 1 : whole > 0 ? Math.min(1, sum / whole) : (to - now) / (end - now)
    return { at: new Date(to), ...at(part) }
  })
  const drawnFromMs = method === 'even-pace' ? Math.min(weekMs, series.lengthMs) : series.lengthMs
  return { method, drawnFromMs, usedNow: used, usedAtEnd: at(1), course }
}

/** Forecasts how far a quota is used at its reset; undefined where there is too little to tell. */
export function forecastQuota({ limit, ...input }: ForecastInput & { readonly limit: number }): QuotaForecast | undefined {
  const forecast = forecastCalls(input)
  if (!forecast) return undefined
  const { usedAtEnd, course, ...rest } = forecast
  const left = (calls: number | null) => (calls === null ? null : Math.max(0, limit - calls))
  const reaches = (name: keyof CallRange) => {
    if (input.used >= limit) return new Date(input.now)
    return course.find((point) => (point[name] ?? 0) >= limit)?.at ?? null
  }
  const every = Math.ceil(course.length / mostPoints)
  return {
    ...rest,
    usedAtReset: usedAtEnd,
    leftAtReset: { low: left(usedAtEnd.high), likely: Math.max(0, limit - usedAtEnd.likely), high: left(usedAtEnd.low) },
    runsOutAt: { earliest: reaches('high'), likely: reaches('likely'), latest: reaches('low') },
    course: course.filter((_, i) => i % every === every - 1 || i === course.length - 1),
  }
}

function expected(series: CallSeries, { now, end, zone }: ForecastInput): Expected & { readonly method: ForecastMethod } {
  if (end - now <= dayMs) {
    const day = restOfDay(series, { now, end, dayStart: dayStart(now, zone) })
    if (day) return { method: 'same-day', ...day }
  } else if (end - now <= furthest * series.lengthMs) {
    const trend = weeklyTrend(series, { now, end })
    if (trend) return { method: 'weekly-trend', ...trend }
  }
  const isWeek = series.lengthMs >= weekMs
  const shape = isWeek ? sameHours(series) : evenPace(series, now)
  return { method: isWeek ? 'same-hours' : 'even-pace', likely: inAll(shape, now, end), low: null, high: null, shape }
}

function dayStart(now: number, zone: string): number {
  return Temporal.Instant.fromEpochMilliseconds(now).toZonedDateTimeISO(zone).startOfDay().epochMilliseconds
}

function evenPace(series: CallSeries, now: number): Expected['shape'] {
  const from = Math.max(series.from, now - weekMs)
  const perMs = series.between(from, series.until) / (series.until - from)
  return (begin, end) => perMs * (end - begin)
}

/** The mean of the same hours in the weeks that are known. */
function sameHours(series: CallSeries): Expected['shape'] {
  return (from, to) => {
    const first = Math.ceil((to - series.until) / weekMs - 1e-9)
    const shifts: number[] = []
    for (let weeks = Math.max(1, first); from - weeks * weekMs >= series.from; weeks++) shifts.push(weeks * weekMs)
    if (shifts.length === 0) shifts.push(Math.max(1, first) * weekMs)
    return shifts.reduce((sum, shift) => sum + series.between(from - shift, to - shift), 0) / shifts.length
  }
}
