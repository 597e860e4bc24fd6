import type { PricedPeriod } from '../core/ledger/provider-prices.js'
import type { Comparison, Converted, Figures, ProviderReport, Report, Without } from '../core/ledger/report-model.js'
import type { Money } from '../core/money/money.js'
import { forecastLines } from './forecast-text.js'
import { ageText, countText, latencyText, momentText, moneyWriter, shareText } from './format.js'
import { keysText } from './keys-text.js'
import { type TableRow, textTable } from './plain-table.js'
import { printable } from './printable.js'
import { lossOf, notesOf } from './remarks.js'
import type { Colors, TextOptions } from './text-options.js'
import { timesText } from './times-text.js'

/** A report as text for a terminal: a table of providers and endpoints, each without and with the stash, and what was saved. */
export function reportText(given: Report, { colors, zone }: TextOptions): string {
  const report = printable(given)
  if (report.since === null || report.until === null) return [...nothingCounted(report), ''].join('\n')
  const head = ['', '', 'asked', 'upstream', 'refused', 'failed', 'from store', 'stale', 'shared', 'money', 'median', 'p95']
  const money = moneyWriter(moneysOf(report))
  const rows: TableRow[] = []
  for (const provider of report.providers) {
    rows.push(providerLine(provider, { colors, zone, money }))
    if (provider.endpoints.length === 0) rows.push(...comparisonRows('', provider, colors, money))
    for (const endpoint of provider.endpoints) rows.push(...comparisonRows(endpoint.endpoint, endpoint, colors, money))
    rows.push(...feeRows(provider, colors, money))
  }
  rows.push('', ...comparisonRows('all calls', report.totals, colors, money))
  const title = `${colors.bold('Calls')} from ${momentText(report.since, zone)} to ${momentText(report.until, zone)} (${zone})`
  const periods = periodLines(report, zone, money)
  const keys = report.byKey ? ['', keysText(report.byKey, { colors, zone })] : []
  const forecast = forecastLines(report, zone)
  const converted = report.converted ? [convertedLine(report.converted, money)] : []
  const times = report.times ? ['', timesText(report.times, { colors, zone, money })] : []
  const notes = [
    ...notesOf(report).map((note) => `       ${colors.yellow(note)}`),
    ...report.providers.flatMap(withinAllowance),
    ...report.providers.flatMap(losing),
  ]
  const saved = [...savedLines(report.totals, colors, money), ...converted, ...notes, ...wrappedNote(report.savedMeans, colors)]
  return [
    title,
    '',
    textTable(head, rows, { dim: colors.dim, aligns: ['left', 'left', ...head.slice(2).map(() => 'right' as const)] }),
    '',
    ...saved,
    ...(periods.length > 0 ? ['', ...periods] : []),
    ...(forecast.length > 0 ? ['', ...forecast] : []),
    ...times,
    ...keys,
    '',
  ].join('\n')
}

/** What a report says in which nothing was counted. */
function nothingCounted(report: Report): string[] {
  return ['No calls were counted in this time.', ...notesOf(report)]
}

/** A sentence in lines of up to 80 characters, below all else. */
function wrappedNote(sentence: string, colors: Colors): string[] {
  return ['', ...(sentence.match(/.{1,80}(?:\s|$)/g) ?? [sentence]).map((line) => colors.dim(line.trimEnd()))]
}

type MoneyWriter = ReturnType<typeof moneyWriter>

function moneysOf({ providers, totals, times = [], converted }: Report): Money[] {
  const comparisons = [totals, ...times, ...providers.flatMap(({ endpoints }) => endpoints)]
  const inOne = converted ? [converted.without, converted.with, converted.saved].filter((one) => one !== null) : []
  return [
    ...inOne,
    ...comparisons.flatMap(({ without, with: reused, saved, couldSave }) =>
      [without, reused, saved, couldSave].flatMap((part) => part?.money ?? []),
    ),
  ]
}

function providerLine(
  { provider, quota, periods, credits, ...comparison }: ProviderReport,
  { colors, zone, money }: TextOptions & { readonly money: MoneyWriter },
): string {
  const [period, ...more] = periods.filter(isLong)
  const facts = [
    ...(quota ? [quotaText(quota, comparison)] : []),
    ...(period && more.length === 0 ? [periodText(period, zone, money)] : []),
    ...(credits ? [`${countText(credits.left)} of ${countText(credits.bought)} prepaid credits left`] : []),
  ]
  return [colors.bold(provider), ...facts].join('   ')
}

function quotaText({ limit, per, used }: NonNullable<ProviderReport['quota']>, { with: reused }: Comparison): string {
  const of = (count: number) => `${countText(count)} (${shareText(count, limit)})`
  const uses = [...(used.measuring > 0 ? [`${of(used.measuring)} without`] : []), ...(reused ? [`${of(used.reusing)} with`] : [])]
  return `quota of ${countText(limit)} a ${per}: ${uses.join(', ') || '0'}`
}

/** What billing periods longer than a day cost, of providers of which there are several in the report. */
function periodLines({ providers }: Report, zone: string, money: MoneyWriter): string[] {
  return providers.flatMap(({ provider, periods }) => {
    const long = periods.filter(isLong)
    return long.length < 2 ? [] : long.map((period) => `${provider}   ${periodText(period, zone, money)}`)
  })
}

function isLong({ from, until }: PricedPeriod): boolean {
  return until.getTime() - from.getTime() > 25 * 3_600_000
}

function periodText({ currency, amount, from, until, partial }: PricedPeriod, zone: string, money: MoneyWriter): string {
  const span = `${momentText(from, zone).slice(0, 10)} to ${momentText(until, zone).slice(0, 10)}`
  return `billed ${money([{ currency, amount }])} for ${span}${partial ? ' (in part)' : ''}`
}

function convertedLine({ currency, rates, without, with: made, saved }: Converted, money: MoneyWriter): string {
  const used = Object.entries(rates).map(([other, rate]) => `1 ${other} is ${currency} ${rate}`)
  const amounts = made && saved ? `${money([saved])} saved of ${money([without])}` : money([without])
  return `       all money in ${currency}: ${amounts} (${used.join(', ')})`
}

/** Says of endpoints on which the stash loses money that it does. */
function losing({ provider, endpoints }: ProviderReport): string[] {
  return endpoints.flatMap((one) => {
    const words = lossOf(one)
    return words === undefined ? [] : [`       ${provider}.${one.endpoint} ${words}`]
  })
}

/** Says of calls that were saved and saved nothing that the plan includes them. */
function withinAllowance({ provider, saved }: ProviderReport): string[] {
  if (!saved || saved.calls <= 0 || saved.money.length === 0 || saved.money.some(({ amount }) => Number(amount) !== 0)) return []
  return [`       ${provider}: ${countText(saved.calls)} calls saved and no money, for the plan includes them or does not bill them`]
}

function comparisonRows(name: string, { without, with: reused }: Comparison, colors: Colors, money: MoneyWriter): string[][] {
  const rows = [[`  ${name}`, without.basis === 'measured' ? 'without' : 'without*', ...cellsOf(without, money)]]
  if (reused) rows.push(['', colors.green('with'), ...cellsOf(reused, money).map((cell) => colors.green(cell))])
  return rows
}

/** Fees that belong to no endpoint, where there are any. */
function feeRows({ fees }: ProviderReport, colors: Colors, money: MoneyWriter): string[][] {
  if (fees.without.length === 0 && !fees.with?.length) return []
  const row = (name: string, side: string, moneys: readonly Money[]) => [name, side, ...Array(7).fill(''), money(moneys), '', '']
  if (fees.with && JSON.stringify(fees.with) === JSON.stringify(fees.without)) return [row('  base fee', 'both', fees.with)]
  return [
    row('  base fee', 'without', fees.without),
    ...(fees.with ? [row('', colors.green('with'), fees.with).map((cell, i) => (i === 9 ? colors.green(cell) : cell))] : []),
  ]
}

function cellsOf(figures: Figures | Without, money: MoneyWriter): string[] {
  const stored = 'fromStore' in figures ? figures : { fromStore: 0, stale: 0, collapsed: 0 }
  const latency = figures.latencyMs
  return [
    countText(figures.asked),
    countText(figures.upstream),
    countText(figures.refused),
    countText(figures.failed),
    countText(stored.fromStore),
    countText(stored.stale),
    countText(stored.collapsed),
    money(figures.money),
    latency ? latencyText(latency.median) : '?',
    latency ? latencyText(latency.p95) : '?',
  ]
}

function savedLines({ without, with: reused, saved, couldSave }: Comparison, colors: Colors, money: MoneyWriter): string[] {
  if (!reused || !saved) {
    const { upstreamCalls = 0, money: avoided = [] } = couldSave ?? {}
    return [
      'The stash only measured so far: nothing was reused.',
      `Reuse by the same rules would have avoided ${countText(upstreamCalls)} of ${countText(without.upstream)} upstream calls (${shareText(upstreamCalls, without.upstream)}) and ${money(avoided)}.`,
    ]
  }
  const lines = [
    `${colors.bold('Saved')}  ${countText(saved.calls)} of ${countText(without.asked)} calls (${shareText(saved.calls, without.asked)}) and ${money(saved.money)} of ${money(without.money)}`,
    `       upstream calls: ${countText(without.upstream)} without, ${countText(reused.upstream)} with`,
    `       callers given an error or a refusal: ${countText(without.errored)} without, ${countText(reused.errored)} with`,
  ]
  if (reused.withheld > 0)
    lines.push(`       refused by Stashen itself, or left before they could leave: ${countText(reused.withheld)}, which saved nothing`)
  if (saved.timeMs !== null && saved.timeMs > 0) lines.push(`       waiting time: ${ageText(saved.timeMs)} less in all`)
  if (reused.background + reused.repeated > 0) {
    const spent = [
      ...(reused.background > 0 ? [`${countText(reused.background)} made in the background`] : []),
      ...(reused.repeated > 0 ? [`${countText(reused.repeated)} repeated after failures`] : []),
    ]
    lines.push(`       of the upstream calls ${spent.join(', ')}`)
  }
  const inFailures = reused.stale - reused.staleByChoice
  if (reused.oldestStaleMs !== null) {
    const which =
      reused.staleByChoice > 0
        ? `${countText(inFailures)} in failures, ${countText(reused.staleByChoice)} while refreshed`
        : `${countText(inFailures)}`
    lines.push(`       older answers given: ${which}, the oldest ${ageText(reused.oldestStaleMs)} old`)
  }
  if (reused.fallback > 0) lines.push(`       defaults given in place of an answer: ${countText(reused.fallback)}`)
  if (without.basis === 'estimated') {
    lines.push('', '* not measured: the calls that left, by how they ended, and those that were saved')
    if (without.refused > 0)
      lines.push(`  but ${countText(without.refused)} that limits and quotas would have refused: they count apart and cost nothing`)
  }
  return lines
}
