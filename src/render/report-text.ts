import type { PricedPeriod } from '../core/ledger/provider-prices.js'
import type { Comparison, Converted, Figures, ProviderReport, Report, Without } from '../core/ledger/report-model.js'
import type { Money } from '../core/money/money.js'
import { changeTable } from './change-table.js'
import { forecastLines } from './forecast-text.js'
import {
  budgetText,
  countOf,
  countText,
  momentText,
  moneyCells,
  moneyText,
  nothingCounted,
  periodText,
  shareText,
  shortened,
  wrapped,
} from './format.js'
import { keysText } from './keys-text.js'
import { labelHeads, labelTable } from './label-table.js'
import { type TableRow, textTable } from './plain-table.js'
import { printable } from './printable.js'
import { lossOf, notesOf } from './remarks.js'
import { type Columns, narrowColumns, wideColumns } from './report-columns.js'
import { figureLines, whatHappened } from './report-words.js'
import type { Colors, TextOptions } from './text-options.js'
import { timesText as byTime } from './times-text.js'

/** A report as text for a terminal: what was saved, and a table of providers and endpoints, each without and with the stash. */
export function reportText(given: Report, { colors, zone, wide = false }: TextOptions): string {
  const report = printable(given)
  if (report.since === null || report.until === null) return [...nothingCounted(report), ...notesOf(report), ''].join('\n')
  const currencies = new Set(moneysOf(report).map(({ currency }) => currency))
  const [currency] = currencies.size === 1 ? currencies : []
  const money = moneyCells(moneysOf(report), { isBare: currency !== undefined })
  const { head, cells, legend, isBetter } = wide ? wideColumns : narrowColumns
  const rows: TableRow[] = []
  const rowsOf = (name: string, one: Comparison) =>
    comparisonRows(name, one, { colors, isBetter, cells: (figures) => cells(figures, money) })
  for (const provider of report.providers) {
    rows.push(...providerLines(provider, colors))
    if (provider.endpoints.length === 0) rows.push(...rowsOf('', provider))
    for (const endpoint of provider.endpoints) rows.push(...rowsOf(shortened(endpoint.endpoint, wide ? 100 : nameLength), endpoint))
    rows.push(...feeRows(provider, { money, columns: head }))
  }
  rows.push('', ...rowsOf('all calls', report.totals))
  const heads = head.map((name) => (name === 'money' ? (currency ?? name) : name))
  const table = textTable(['', '', ...heads], rows, { dim: colors.dim, aligns: ['left', 'left', ...head.map(() => 'right' as const)] })
  const sections = [
    [...savedLines(report.totals, colors), spanLine(report, zone)],
    whatHappened(report).flatMap((sentence) => wrapped(sentence)),
    [table, ...legend.map(colors.dim)],
    [...figureLines(report.totals), ...(report.converted ? [convertedLine(report.converted)] : []), ...notesIn(report)],
    periodLines(report),
    forecastLines(report, zone),
    report.times ? [byTime(report.times, { colors, zone, money, currency, wide })] : [],
    report.totals.with === null || wide ? changeLines(report, colors, wide) : [],
    labelLines(report, { colors, money, most: wide ? Number.POSITIVE_INFINITY : undefined }),
    report.byKey ? [keysText(report.byKey, { colors, zone, wide })] : [],
    wrapped(report.savedMeans).map(colors.dim),
  ]
  return `${sections
    .filter((lines) => lines.length > 0)
    .map((lines) => lines.join('\n'))
    .join('\n\n')}\n`
}

function notesIn(report: Report): string[] {
  return [
    ...notesOf(report).flatMap((note) => wrapped(note)),
    ...report.providers.flatMap(withinAllowance).flatMap((note) => wrapped(note)),
    ...report.providers.flatMap(losing).flatMap((note) => wrapped(note)),
  ]
}

type MoneyCells = ReturnType<typeof moneyCells>

function moneysOf({ providers, totals, times = [] }: Report): Money[] {
  const comparisons = [totals, ...times, ...providers.flatMap(({ endpoints }) => endpoints)]
  return [
    ...providers.flatMap(({ fees }) => [...fees.without, ...(fees.with ?? [])]),
    ...comparisons.flatMap(({ without, with: reused }) => [without, reused].flatMap((part) => part?.money ?? [])),
  ]
}

/** A provider's name, and below it what its quota, bill and credits say. */
function providerLines({ provider, quota, periods, budgets, credits, ...comparison }: ProviderReport, colors: Colors): string[] {
  const [period, ...more] = periods.filter(isLong)
  const facts = [
    ...(quota ? [quotaText(quota, comparison)] : []),
    ...(period && more.length === 0 ? [periodText(period)] : []),
    ...budgets.map(budgetText),
    ...(credits ? [`${countText(credits.left)} of ${countText(credits.bought)} prepaid credits left`] : []),
  ]
  return [colors.bold(provider), ...facts.map((fact) => `  ${fact}`)]
}

function quotaText({ limit, per, used }: NonNullable<ProviderReport['quota']>, { with: reused }: Comparison): string {
  const of = (count: number) => `${countText(count)} (${shareText(count, limit)})`
  const uses = [...(used.measuring > 0 ? [`${of(used.measuring)} without`] : []), ...(reused ? [`${of(used.reusing)} with`] : [])]
  return `quota of ${countText(limit)} a ${per}: ${uses.join(', ') || '0'}`
}

/** What billing periods longer than a day cost, of providers of which there are several in the report. */
function periodLines({ providers }: Report): string[] {
  return providers.flatMap(({ provider, periods }) => {
    const long = periods.filter(isLong)
    return long.length < 2 ? [] : long.map((period) => `${provider}   ${periodText(period)}`)
  })
}

function isLong({ from, until }: PricedPeriod): boolean {
  return until.getTime() - from.getTime() > 25 * 3_600_000
}

function convertedLine({ currency, rates, without, with: made, saved }: Converted): string {
  const used = Object.entries(rates).map(([other, rate]) => `1 ${other} is ${currency} ${rate}`)
  const amounts = made && saved ? `${moneyText([saved])} saved of ${moneyText([without])}` : moneyText([without])
  return `all money in ${currency}: ${amounts} (${used.join(', ')})`
}

/** Says of endpoints on which the stash loses money that it does. */
function losing({ provider, endpoints }: ProviderReport): string[] {
  return endpoints.flatMap((one) => {
    const words = lossOf(one)
    return words === undefined ? [] : [`${provider}.${one.endpoint} ${words}`]
  })
}

/** Says of calls that were saved and saved nothing that the plan includes them. */
function withinAllowance({ provider, saved }: ProviderReport): string[] {
  if (!saved || saved.calls <= 0 || saved.money.length === 0 || saved.money.some(({ amount }) => Number(amount) !== 0)) return []
  return [`       ${provider}: ${countOf(saved.calls, 'call')} saved and no money, for the plan includes them or does not bill them`]
}

/** How long the name of an endpoint may be where lines are 80 characters. */
const nameLength = 14

function comparisonRows(
  name: string,
  { without, with: reused }: Comparison,
  { colors, cells, isBetter }: Pick<Columns, 'isBetter'> & { readonly colors: Colors; cells(figures: Figures | Without): string[] },
): string[][] {
  const rows = [[`  ${name}`, without.basis === 'measured' ? 'without' : 'without*', ...cells(without)]]
  if (reused) rows.push(['', 'with', ...cells(reused).map((cell, i) => (isBetter[i]?.(reused, without) ? colors.green(cell) : cell))])
  return rows
}

/** Fees that belong to no endpoint, where there are any. */
function feeRows(
  { fees }: ProviderReport,
  { money, columns }: { readonly money: MoneyCells; readonly columns: readonly string[] },
): string[][] {
  if (fees.without.length === 0 && !fees.with?.length) return []
  const row = (name: string, side: string, moneys: readonly Money[]) => [
    name,
    side,
    ...columns.map((column) => (column === 'money' ? money(moneys) : '')),
  ]
  if (fees.with && JSON.stringify(fees.with) === JSON.stringify(fees.without)) return [row('  base fee', 'both', fees.with)]
  return [row('  base fee', 'without', fees.without), ...(fees.with ? [row('', 'with', fees.with)] : [])]
}

/** What was saved. */
function savedLines({ without, with: reused, saved, couldSave }: Comparison, colors: Colors): string[] {
  if (!reused || !saved) {
    const { upstreamCalls: calls = 0, money: avoided = [] } = couldSave ?? {}
    return [
      'The stash only measured so far: nothing was reused.',
      `Reuse by the same rules would have avoided ${countText(calls)} of ${countText(without.upstream)} calls (${shareText(calls, without.upstream)})${avoided.length > 0 ? ` and ${moneyText(avoided)}` : ''}.`,
    ]
  }
  const hasMoney = saved.money.length > 0 || without.money.length > 0
  const money = hasMoney ? ` and ${moneyText(saved.money)} of ${moneyText(without.money)}` : ''
  return [
    `${colors.bold('Saved')} ${countText(saved.calls)} of ${countText(without.asked)} calls (${shareText(saved.calls, without.asked)})${money}`,
  ]
}

/** Which calls: when they were made, how many a second, and how it is known what they would have been without the stash. */
function spanLine({ since, until, totals: { without, with: reused } }: Report, zone: string): string {
  if (since === null || until === null) return ''
  const perSecond = without.asked / Math.max(1, (until.getTime() - since.getTime()) / 1000)
  const rate = perSecond >= 10 ? countText(Math.round(perSecond)) : perSecond >= 0.01 ? perSecond.toFixed(2) : '<0.01'
  const basis = reused ? `, ${without.basis === 'measured' ? 'measured' : 'estimated'}` : ''
  return `${momentText(since, zone)} to ${momentText(until, zone)} (${zone}), ${rate} calls/s${basis}`
}

/** How often answers had changed by their age, from which lifetimes can be chosen. */
function changeLines(report: Report, colors: Colors, wide: boolean): string[] {
  const table = changeTable(report, !wide)
  if (!table) return []
  return [textTable(table.heads, table.rows, { dim: colors.dim, aligns: table.heads.map((_, i) => (i === 0 ? 'left' : 'right')) })]
}

/** Whose calls they were, where that was counted. */
function labelLines(
  report: Report,
  { colors, money, most }: { readonly colors: Colors; readonly money: MoneyCells; readonly most: number | undefined },
): string[] {
  const rows = labelTable(report, money, most)?.map(([provider = '', label = '', ...counts]) =>
    most === undefined ? [shortened(provider, 13), shortened(label, 18), ...counts] : [provider, label, ...counts],
  )
  if (!rows) return []
  const aligns = labelHeads.map((_, i) => (i < 2 ? 'left' : 'right'))
  return [textTable(labelHeads, rows, { dim: colors.dim, aligns })]
}
