import type { BillForecast } from '../core/ledger/bill-forecast.js'
import type { QuotaUse, Report } from '../core/ledger/report-model.js'
import type { CallRange, ForecastMethod, QuotaForecast } from '../core/limits/forecast.js'
import { ageText, countText, momentText, moneyText, periodDays } from './format.js'

/** What is forecast of each provider's quota, in words: a line with the stash, one without it, and one on what the provider itself says. */
export function forecastLines({ providers }: Report, zone: string): string[] {
  const lines = providers.flatMap(({ provider, quota }) => (quota ? linesOf(provider, quota, zone) : []))
  const bills = providers.flatMap(({ provider, bill }) => (bill ? billLines(provider, bill) : []))
  const forecasts = providers.flatMap(({ quota }) => [quota?.forecast.with, quota?.forecast.without]).filter((one) => !!one)
  return [
    ...(lines.length > 0 ? ['Quotas', ...lines, ...methodWords(forecasts)] : []),
    ...(bills.length > 0 ? ['Bills, if calls go on as they did', ...bills] : []),
  ]
}

function linesOf(provider: string, { limit, until, reported, forecast }: QuotaUse, zone: string): string[] {
  const sides = (['with', 'without'] as const).flatMap((side) => {
    const expectedStorage = forecast[side]
    return expectedStorage ? [`${side.padEnd(9)}${wordsOf(expectedStorage, limit, zone)}`] : []
  })
  const said =
    reported && reported.fewer !== 0
      ? [`the provider says that ${countText(reported.left)} are left, ${differenceText(reported.fewer)}`]
      : []
  return sides.length + said.length === 0
    ? []
    : [`  ${provider}, until ${momentText(until, zone)}`, ...[...sides, ...said].map((words) => `    ${words}`)]
}

/** How many calls fewer a provider says are left than were counted here. */
export function differenceText(fewer: number): string {
  const calls = `${countText(Math.abs(fewer))} ${Math.abs(fewer) === 1 ? 'call' : 'calls'}`
  return fewer > 0 ? `${calls} fewer than counted here: others use the key` : `${calls} more than counted here`
}

function wordsOf({ usedNow, usedAtReset, runsOutAt }: QuotaForecast, limit: number, zone: string): string {
  const used = `${rangeText(usedAtReset)} of ${countText(limit)} calls`
  if (usedNow >= limit) return `${used}, used up already`
  if (!runsOutAt.earliest && !runsOutAt.likely) return usedAtReset.high === null ? `${used}, probably enough` : `${used}, enough`
  const moment = (at: Date) => momentText(at, zone).slice(5) // the year stands before
  if (!runsOutAt.likely) return `${used}, likely enough, may run out from ${moment(runsOutAt.earliest as Date)} on`
  if (!runsOutAt.earliest) return `${used}, runs out about ${moment(runsOutAt.likely)}`
  const latest = runsOutAt.latest ? ` to ${moment(runsOutAt.latest)}` : ' or later, or not at all'
  return `${used}, runs out about ${moment(runsOutAt.likely)} (${moment(runsOutAt.earliest)}${latest})`
}

function rangeText({ low, likely, high }: CallRange): string {
  if (low === null || high === null) return `about ${countText(likely)}`
  return low === high ? countText(likely) : `${countText(likely)} (${countText(low)} to ${countText(high)})`
}

/** What a billing period will cost at its end. */
function billLines(provider: string, { currency, with: made, without, ...period }: BillForecast): string[] {
  const text = (amount: string) => moneyText([{ currency, amount }])
  const sides = (
    [
      ['with', made],
      ['without', without],
    ] as const
  ).flatMap(([side, range]) => {
    if (!range) return []
    const { low, likely, high } = range
    const about =
      low === null || high === null
        ? `about ${text(likely)}`
        : low === high
          ? text(likely)
          : `${text(likely)} (${text(low)} to ${text(high)})`
    return [`    ${side.padEnd(9)}${about}`]
  })
  return [`  ${provider}, for ${periodDays(period)}`, ...sides]
}

const methods: Record<ForecastMethod, (length: string) => string> = {
  'same-day': (length) => `the same weekdays in the last ${length}, as this day compares`,
  'weekly-trend': (length) => `the last ${length}, and how weeks grow or shrink`,
  'same-hours': (length) => `the same hours in the last ${length}: too little for a range`,
  'even-pace': (length) => `the mean pace of the last ${length}: too little data for a range`,
}

const dayMs = 86_400_000

/** Words on what forecasts are drawn from. */
function methodWords(forecasts: readonly Pick<QuotaForecast, 'method' | 'drawnFromMs'>[]): string[] {
  const words = forecasts.map(
    ({ method, drawnFromMs }) =>
      `  drawn from ${methods[method](drawnFromMs < 2 * dayMs ? ageText(drawnFromMs) : `${Math.floor(drawnFromMs / dayMs)} days`)}`,
  )
  const hasRange = forecasts.some(({ method }) => method === 'same-day' || method === 'weekly-trend')
  return [...new Set(words), ...(hasRange ? ['  ranges hold eight times in ten'] : [])]
}
