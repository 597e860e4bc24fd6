import { type ForecastInput, forecastQuota, type QuotaForecast } from '../limits/forecast.js'
import { type Quota, quotaPeriod } from '../limits/quota.js'
import { filtered, type Steps } from '../steps.js'
import { hoursOf } from './hours-of-calls.js'
import type { TallyRow } from './ledger-row.js'
import { momentOf } from './ledger-row.js'
import type { QuotaUse } from './report-model.js'
import { callsWithout } from './without.js'

export interface QuotaInput {
  readonly quota: Quota
  /** Rows of the provider, of the period at least. */
  readonly rows: readonly TallyRow[]
  /** Begin of the last bucket told, and end of the report. */
  readonly last: number
  readonly until: number
  /** Rows of the provider of the last weeks before `until` by the hour, where a forecast is wanted. */
  readonly recent: readonly TallyRow[]
  /** What the provider itself said is left, if it did. */
  readonly reported: number | undefined
  /** How many more calls may leave until its reset, by the budgets of the provider; default: any number. */
  readonly mostMore?: number
}

const hourMs = 3_600_000
/** The course of a shorter period is told by the hour. */
const shortMs = 48 * hourMs

/** Weeks that a forecast is drawn from, at the most, milliseconds. */
export const forecastFromMs = 28 * 24 * hourMs

/** How a quota was used in the period that a report ends in, and how it will be. */
export function* quotaUse({
  quota,
  rows,
  last,
  until,
  recent,
  reported,
  mostMore = Number.POSITIVE_INFINITY,
}: QuotaInput): Steps<QuotaUse> {
  const { start, end } = quotaPeriod(quota, last)
  const inPeriod = yield* filtered(rows, (row) => row.bucket >= start && row.bucket < end)
  const used = (count: Count) => inPeriod.reduce((sum, row) => sum + count(row), 0)
  const reuses = inPeriod.some(({ mode }) => mode === 'reuse')
  const [made, asked] = [used(reusing), used(reuses ? allAsked : measuring)]
  const usedNow = Math.max(made, reported === undefined ? 0 : quota.calls - reported)
  const isNow = until > start && until < end
  const fine = end - start <= shortMs && recent.length > 0
  const forecast = function* (count: Count, soFar: number, most: number): Steps<QuotaForecast | null> {
    if (!isNow) return null
    const input: ForecastInput & { limit: number } = {
      limit: quota.calls,
      used: soFar,
      now: until,
      end,
      hours: yield* hoursOf(recent, count, until),
      zone: quota.zone,
      most,
    }
    return forecastQuota(input) ?? null
  }
  return {
    ...{ limit: quota.calls, per: quota.per, zone: quota.zone },
    from: new Date(start),
    until: new Date(end),
    used: { measuring: used(measuring), reusing: made },
    reported: isNow && reported !== undefined ? { left: reported, fewer: quota.calls - made - reported } : null,
    course: courseOf(fine ? recent : inPeriod, { start, end: Math.min(end, until) }, reuses),
    forecast: {
      with: reuses ? yield* forecast(reusing, usedNow, Math.min(quota.calls, usedNow + mostMore)) : null,
      without: yield* forecast(reuses ? allAsked : measuring, asked, Number.POSITIVE_INFINITY),
    },
  }
}

type Count = (row: TallyRow) => number
const reusing: Count = ({ mode, tally }) => (mode === 'reuse' ? tally.upstream : 0)
const measuring: Count = ({ mode, tally }) => (mode === 'measure' ? tally.upstream : 0)
const allAsked: Count = ({ mode, tally }) => (mode === 'reuse' ? callsWithout(tally, {}) : 0)

/** Calls made up to some moments of a time, without the stash and with it: by the hour where it is no longer than two days, else by the day. */
function courseOf(rows: readonly TallyRow[], { start, end }: { start: number; end: number }, reuses: boolean): QuotaUse['course'] {
  const step = end - start <= shortMs ? hourMs : 24 * hourMs
  const steps = Math.max(0, Math.ceil((end - start) / step))
  const sums = Array.from({ length: steps }, () => ({ without: 0, with: 0 }))
  for (const row of rows) {
    const sum = sums[Math.floor((momentOf(row) - start) / step)]
    if (!sum) continue
    sum.without += reuses ? allAsked(row) : measuring(row)
    sum.with += reusing(row)
  }
  let [without, withStash] = [0, 0]
  return sums.map((sum, i) => {
    without += sum.without
    withStash += sum.with
    return { at: new Date(Math.min(end, start + (i + 1) * step)), without, with: withStash }
  })
}
