import { Temporal } from 'temporal-polyfill'

/** Calls counted in a whole hour that begins at `at`, milliseconds since 1970-01-01T00:00Z. */
export interface HourOfCalls {
  readonly at: number
  readonly calls: number
}

/** Numbers of calls: eight times in ten it will be from `low` to `high`. */
export interface CallRange {
  readonly low: number
  readonly likely: number
  readonly high: number
}

/** How a quota will be used up to its reset if calls go on as they did. */
export interface QuotaForecast {
  /**
   * `even`: at the mean pace of the last seven days, or as much of them as is known, for there are not two weeks of data yet.
   * `weekday-hour`: at the mean of the same hour of the same weekday in the last four weeks.
   */
  readonly method: 'even' | 'weekday-hour'
  /** How long a time it is drawn from, milliseconds. */
  readonly drawnFromMs: number
  readonly usedNow: number
  readonly usedAtReset: CallRange
  /** Never less than none. */
  readonly leftAtReset: CallRange
  /** When it runs out; null where it does not before the reset. */
  readonly runsOutAt: { readonly earliest: Date | null; readonly likely: Date | null; readonly latest: Date | null }
  /** Calls used up to some moments of the time left, the reset the last. */
  readonly course: readonly ({ readonly at: Date } & CallRange)[]
}

export interface ForecastInput {
  readonly limit: number
  /** Calls used in the period up to `now`, in whose midst it lies. */
  readonly used: number
  readonly now: number
  readonly end: number
  /** Whole hours before `now`, without gaps, in the order of time: those in which nothing was called too. */
  readonly hours: readonly HourOfCalls[]
  /** IANA time zone of weekdays and hours. */
  readonly zone: string
}

const hourMs = 3_600_000
const dayHours = 24
const weekHours = 7 * dayHours
/** Fewer hours than this tell nothing. */
const fewestHours = 3
/** How far from the mean 80% of a normal distribution lie, in standard deviations. */
const eightyPercent = 1.2816
/** Moments of a course, at the most. */
const mostPoints = 60

/** Forecasts how far a quota is used at its reset; undefined where there is too little to tell. */
export function forecastQuota(input: ForecastInput): QuotaForecast | undefined {
  const { limit, used, now, end, hours } = input
  if (hours.length < fewestHours || now >= end) return undefined
  const shaped = hours.length >= 2 * weekHours
  const pace = shaped ? weekdayPace(input) : evenPace(hours.slice(-weekHours))
  const steps: { at: number; calls: number; passed: number }[] = []
  for (let at = now, calls = 0; at < end; ) {
    const next = Math.min(end, Math.floor(at / hourMs) * hourMs + hourMs)
    calls += (pace.perHour(at) * (next - at)) / hourMs
    steps.push({ at: next, calls, passed: (next - now) / hourMs })
    at = next
  }
  const spread = (calls: number, passed: number) => eightyPercent * pace.deviation(calls, passed)
  const at = (calls: number, passed: number): CallRange => ({
    low: Math.round(used + Math.max(0, calls - spread(calls, passed))),
    likely: Math.round(used + calls),
    high: Math.round(used + calls + spread(calls, passed)),
  })
  const courseAt = steps.map(({ at: moment, calls, passed }) => ({ at: moment, ...at(calls, passed) }))
  const last = courseAt.at(-1) ?? { at: end, low: used, likely: used, high: used }
  const reaches = (name: keyof CallRange) => {
    if (used >= limit) return new Date(now)
    const first = courseAt.find((point) => point[name] >= limit)
    return first ? new Date(first.at) : null
  }
  const every = Math.ceil(courseAt.length / mostPoints)
  return {
    method: shaped ? 'weekday-hour' : 'even',
    drawnFromMs: pace.hours * hourMs,
    usedNow: used,
    usedAtReset: { low: last.low, likely: last.likely, high: last.high },
    leftAtReset: {
      low: Math.max(0, limit - last.high),
      likely: Math.max(0, limit - last.likely),
      high: Math.max(0, limit - last.low),
    },
    runsOutAt: { earliest: reaches('high'), likely: reaches('likely'), latest: reaches('low') },
    course: courseAt
      .filter((_, i) => i % every === every - 1 || i === courseAt.length - 1)
      .map((point) => ({ ...point, at: new Date(point.at) })),
  }
}

interface Pace {
  /** Hours that it is drawn from. */
  readonly hours: number
  /** Calls in the hour that a moment falls in. */
  perHour(at: number): number
  /** How far off a number of calls in so many hours may be, as a standard deviation. */
  deviation(calls: number, hours: number): number
}

/**
 * The same in every hour. What it is off by comes from how different days were, once there are three, else hours; and from how little is
 * known, which counts the more, the less of a day it is drawn from.
 */
function evenPace(hours: readonly HourOfCalls[]): Pace {
  const counts = hours.map(({ calls }) => calls)
  const mean = meanOf(counts)
  const days = blocks(counts, dayHours)
  const [unit, parts] = days.length >= 3 ? [dayHours, days] : [1, counts]
  const variance = Math.max(varianceOf(parts), meanOf(parts)) // no less than that of random alone
  const doubt = hours.length < dayHours ? dayHours / hours.length : 1
  return {
    hours: hours.length,
    perHour: () => mean,
    deviation: (_, passed) => {
      const units = passed / unit
      return Math.sqrt(units * variance + (doubt * units * units * variance) / parts.length)
    },
  }
}

/** The mean of the same hour of the same weekday. What it is off by comes from how hours differ from it, and weeks from one another. */
function weekdayPace({ hours, zone }: ForecastInput): Pace {
  const recent = hours.slice(-4 * weekHours)
  const slots = Array.from({ length: weekHours }, () => [] as number[])
  const slotOf = slotsOf(zone)
  for (const { at, calls } of recent) slots[slotOf(at)]?.push(calls)
  const overall = meanOf(recent.map(({ calls }) => calls))
  const means = slots.map((counts) => (counts.length > 0 ? meanOf(counts) : overall))
  const weeks = blocks(
    recent.map(({ calls }) => calls),
    weekHours,
  )
  const residuals = recent.reduce((sum, { at, calls }) => sum + (calls - (means[slotOf(at)] as number)) ** 2, 0)
  const variance = Math.max(residuals / Math.max(1, recent.length - weekHours), overall)
  const weekly = meanOf(weeks)
  const drift = weekly > 0 ? Math.max(0, varianceOf(weeks) - weekHours * variance) / weekly ** 2 : 0
  return {
    hours: recent.length,
    perHour: (at) => means[slotOf(at)] as number,
    deviation: (calls, passed) => Math.sqrt(passed * variance * (1 + 1 / weeks.length) + drift * calls * calls),
  }
}

/** Finds the hour of the week of a moment, from Monday on; quick for moments that follow one another. */
function slotsOf(zone: string): (at: number) => number {
  const known = new Map<number, number>()
  return (at) => {
    const hour = Math.floor(at / hourMs)
    const slot = known.get(hour)
    if (slot !== undefined) return slot
    const moment = Temporal.Instant.fromEpochMilliseconds(hour * hourMs).toZonedDateTimeISO(zone)
    const found = (moment.dayOfWeek - 1) * dayHours + moment.hour
    known.set(hour, found)
    return found
  }
}

/** Sums of whole blocks of so many values, the last ones first to be whole. */
function blocks(values: readonly number[], size: number): number[] {
  const sums: number[] = []
  for (let end = values.length; end >= size; end -= size) sums.push(values.slice(end - size, end).reduce((sum, one) => sum + one, 0))
  return sums
}

function meanOf(values: readonly number[]): number {
  return values.reduce((sum, value) => sum + value, 0) / Math.max(1, values.length)
}

function varianceOf(values: readonly number[]): number {
  const mean = meanOf(values)
  return values.reduce((sum, value) => sum + (value - mean) ** 2, 0) / Math.max(1, values.length - 1)
}
