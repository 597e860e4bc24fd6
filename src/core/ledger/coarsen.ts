import { Temporal } from 'temporal-polyfill'
import { factsInForce } from './facts-in-force.js'
import { type BillingFacts, bucketMs, type Grain, type LedgerRow } from './ledger-row.js'
import { overLimits, settledMs } from './over-limit.js'
import { Tally } from './tally.js'

/**
 * Puts rows together into buckets of hours or days, and gives them back besides, as details of these. A bucket never reaches over an hour or day of the time zones that plan, quota and
 * reports go by, nor over a change of what is known of its provider: so every bill comes out as it would have before.
 */
export function coarsened(
  rows: readonly LedgerRow[],
  grain: Exclude<Grain, 'minute'>,
  facts: readonly BillingFacts[],
  zone: string | undefined,
): LedgerRow[] {
  const over = overLimits(rows, factsInForce(facts), settledMs[grain])
  const buckets = new Map<string, (at: number) => Span>()
  const sums = new Map<string, LedgerRow>()
  const details: LedgerRow[] = []
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
    tally.overLimit += over.get(row) ?? 0
    sum.tally.merge(tally)
    details.push({ ...row, isDetail: true, tally })
  }
  return [...sums.values(), ...details]
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
  const zones = new Set(its.flatMap(({ plan, quota }) => [plan && (plan.zone ?? 'UTC'), quota?.zone]).filter((one) => one !== undefined))
  if (zone !== undefined || zones.size === 0) zones.add(zone ?? 'UTC')
  const changes = its.map(({ since }) => Math.floor(since / bucketMs) * bucketMs).sort((a, b) => a - b)
  let known: Span = { start: 0, end: 0 }
  return (at) => {
    if (at >= known.start && at < known.end) return known
    const around = [...zones].map((one) => unitAround(at, grain, one))
    const before = changes.findLast((change) => change <= at) ?? Number.NEGATIVE_INFINITY
    const after = changes.find((change) => change > at) ?? Number.POSITIVE_INFINITY
    known = {
      start: Math.max(before, ...around.map(({ start }) => start)),
      end: Math.min(after, ...around.map(({ end }) => end)),
    }
    return known
  }
}

/** The hour or day of a time zone that a moment falls in. */
function unitAround(at: number, unit: 'hour' | 'day', zone: string): Span {
  const moment = Temporal.Instant.fromEpochMilliseconds(at).toZonedDateTimeISO(zone)
  const start = unit === 'day' ? moment.startOfDay() : moment.round({ smallestUnit: 'hour', roundingMode: 'floor' })
  const end = unit === 'day' ? start.add({ days: 1 }).startOfDay() : start.add({ hours: 1 })
  return { start: start.epochMilliseconds, end: end.epochMilliseconds }
}
