import type { QuotaUse, Report } from '../core/ledger/report-model.js'
import type { CallRange, QuotaForecast } from '../core/limits/forecast.js'
import { ageText, countText, momentText } from './format.js'

/** What is forecast of each provider's quota, in words: a line with the stash, one without it, and one on what the provider itself says. */
export function forecastLines({ providers }: Report, zone: string): string[] {
  const lines = providers.flatMap(({ provider, quota }) => (quota ? linesOf(provider, quota, zone) : []))
  const methods = [...new Set(providers.flatMap(({ quota }) => [quota?.forecast.with, quota?.forecast.without]).filter((one) => !!one))]
  return lines.length === 0 ? [] : ['Quotas', ...lines, ...methodWords(methods)]
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
  if (!runsOutAt.earliest) return `${used}, enough`
  const moment = (at: Date) => momentText(at, zone).slice(5) // the year stands before
  if (!runsOutAt.likely) return `${used}, likely enough, may run out from ${moment(runsOutAt.earliest)} on`
  const latest = runsOutAt.latest ? ` to ${moment(runsOutAt.latest)}` : ' or later, or not at all'
  return `${used}, runs out about ${moment(runsOutAt.likely)} (${moment(runsOutAt.earliest)}${latest})`
}

function rangeText({ low, likely, high }: CallRange): string {
  return low === high ? countText(likely) : `${countText(likely)} (${countText(low)} to ${countText(high)})`
}

function methodWords(forecasts: readonly QuotaForecast[]): string[] {
  const words = forecasts.map(({ method, drawnFromMs }) =>
    method === 'even'
      ? `  drawn from the mean pace of the last ${ageText(drawnFromMs)}; ranges hold eight times in ten`
      : `  drawn from the same hours of the same weekdays in the last ${ageText(drawnFromMs)}; ranges hold eight times in ten`,
  )
  return [...new Set(words)]
}
