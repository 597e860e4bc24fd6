import { Temporal } from 'temporal-polyfill'
import { billingPeriod, changesOf } from '../money/plan-periods.js'
import { allSteps } from '../steps.js'
import { periodAround } from '../time/calendar.js'
import { factsInForce } from './facts-in-force.js'
import { type BillingFacts, bucketMs, type Grain, type TallyRow } from './ledger-row.js'
import { openCalls, overLimits, settledMs } from './over-limit.js'
import { Tally } from './tally.js'

/**
 * Puts rows together into buckets of hours, days or months, and gives them back besides, as details of these. A bucket
 * never reaches over an hour, day or month of the time zones that plan, quota and reports go by, nor over a billing period or a change of
 * prices or of what is known of its provider: so every bill comes out as it would have before. `over`: how many calls of a row limits would have
 * refused, where `rows` are not all of their providers.
 */
export function coarsened(
  rows: readonly TallyRow[],
  grain: Exclude<Grain, 'minute'>,
  facts: readonly BillingFacts[],
  zone: string | undefined,
  over: (row: TallyRow) => number = overIn(rows, grain, facts),
): TallyRow[] {
  const buckets = new Map<string, (at: number) => Span>()
  const sums = new Map<string, TallyRow>()
  const details: TallyRow[] = []
  for (const row of [...rows].sort((a, b) => a.bucket - b.bucket)) {
    const { provider, endpoint, mode } = row
    const spanOf = buckets.get(provider) ?? spans(grain, facts, provider, zone)
    buckets.set(provider, spanOf)
    const { start, end } = spanOf(row.bucket)
    const place = JSON.stringify([start, mode, provider, endpoint])
    const sum = sums.get(place) ?? { bucket: start, grain, lengthMs: end - start, mode, provider, endpoint, tally: new Tally() }
    sums.set(place, sum)
    const tally = new Tally()
    tally.merge(row.tally)
    tally.overLimit += over(row)
    sum.tally.merge(tally)
    details.push({ ...row, isDetail: true, tally })
  }
  return [...sums.values(), ...details]
}

/** Calls of each row that limits would have refused in windows that the longer bucket settles, where these are all rows of their providers. */
function overIn(rows: readonly TallyRow[], grain: Grain, facts: readonly BillingFacts[]): (row: TallyRow) => number {
  const over = allSteps(overLimits(rows, factsInForce(facts), openCalls, settledMs[grain]))
  return (row) => over.get(row) ?? 0
}

interface Span {
  readonly start: number
  readonly end: number
}

/** Finds the bucket of a moment; quick for moments in the order of time. */
function spans(
  grain: Exclude<Grain, 'minute'>,
  facts: readonly BillingFacts[],
  provider: string,
  zone: string | undefined,
): (at: number) => Span {
  const its = facts.filter((one) => one.provider === provider)
  const plans = its.flatMap(({ plan }) => (plan ? [plan] : []))
  const zones = new Set([
    ...plans.map((plan) => plan.zone ?? 'UTC'),
    ...its.flatMap(({ quota, exportZone }) => [quota?.zone ?? [], exportZone ?? []].flat()),
  ])
  if (zone !== undefined || zones.size === 0) zones.add(zone ?? 'UTC')
  const changes = its.map(({ since }) => Math.floor(since / bucketMs) * bucketMs)
  // which day in a month a quota or a long limit was full would be lost
  const daysOnly = its.some(({ quota, limits = [] }) => quota !== undefined || limits.some(({ perMs }) => perMs > settledMs.day))
  const unit = grain === 'month' && daysOnly ? 'day' : grain
  if (unit === 'month') changes.push(...plans.flatMap(changesOf))
  changes.sort((a, b) => a - b)
  let known: Span = { start: 0, end: 0 }
  return (at) => {
    if (at >= known.start && at < known.end) return known
    const around = [...zones].map((one) => unitAround(at, unit, one))
    if (unit === 'month') around.push(...plans.map((plan) => billingPeriod(plan, at)))
    const before = changes.findLast((change) => change <= at) ?? Number.NEGATIVE_INFINITY
    const after = changes.find((change) => change > at) ?? Number.POSITIVE_INFINITY
    known = {
      start: Math.max(before, ...around.map(({ start }) => start)),
      end: Math.min(after, ...around.map(({ end }) => end)),
    }
    return known
  }
}

/** The hour, day or month of a time zone that a moment falls in. */
function unitAround(at: number, unit: 'hour' | 'day' | 'month', zone: string): Span {
  return unit === 'hour' ? hourAround(at, zone) : periodAround(at, unit, zone)
}

/** Of each zone, the hour that was asked for last. */
const latestHours = new Map<string, Span>()

function hourAround(at: number, zone: string): Span {
  const known = latestHours.get(zone)
  if (known && at >= known.start && at < known.end) return known
  const moment = Temporal.Instant.fromEpochMilliseconds(at).toZonedDateTimeISO(zone)
  const start = moment.round({ smallestUnit: 'hour', roundingMode: 'floor' })
  const hour = { start: start.epochMilliseconds, end: start.add({ hours: 1 }).epochMilliseconds }
  latestHours.set(zone, hour)
  return hour
}
