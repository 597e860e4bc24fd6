import type { Comparison, Figures, ProviderReport, Report, Without } from '../core/ledger/report-model.js'
import type { Money } from '../core/money/money.js'
import { countText, latencyText, momentText, moneyText as money, nothingCounted } from './format.js'
import { labelHeads, labelTable } from './label-table.js'
import { printable } from './printable.js'
import { notesOf } from './remarks.js'

/** A report as Markdown: a table of endpoints and providers, and what was saved. */
export function reportMarkdown(given: Report, zone: string): string {
  const report = printable(given)
  const { since, until, providers, totals } = report
  const notes = notesOf(report).flatMap((note) => ['', `Note: ${escaped(note)}.`])
  if (since === null || until === null) return [...nothingCounted(report).flatMap((line) => [line, '']), ...notes].join('\n')
  const rows = providers.flatMap(({ provider, endpoints, fees, ...whole }) => [
    ...endpoints.flatMap((one) => rowsOf(escaped(`${provider}.${one.endpoint}`), one)),
    ...feeRows(`${escaped(provider)}, base fee`, fees),
    ...rowsOf(`**${escaped(provider)}**`, whole),
  ])
  const { saved } = totals
  return [
    `# Calls from ${momentText(since, zone)} to ${momentText(until, zone)} (${zone})`,
    '',
    `| ${heads.join(' | ')} |`,
    `| --- | --- | ${heads
      .slice(2)
      .map(() => '---:')
      .join(' | ')} |`,
    ...[...rows, ...rowsOf('**all calls**', totals)].map((cells) => `| ${cells.join(' | ')} |`),
    ...timeTable(report, zone),
    ...labelLines(report),
    ...keyTable(report),
    ...notes,
    ...(saved
      ? [
          '',
          `Saved ${countText(saved.calls)} of ${countText(totals.without.asked)} calls${saved.money.length > 0 ? ` and ${money(saved.money)}` : ''} (${totals.without.basis}). ${report.savedMeans}`,
        ]
      : []),
    '',
  ].join('\n')
}

/** Calls hour by hour or day by day, where the report tells them so. */
function timeTable({ times = [] }: Report, zone: string): string[] {
  if (times.length === 0) return []
  const rows = times.map(({ from, partial, without, with: reused }) => [
    `${momentText(from, zone)}${partial ? ' (part)' : ''}`,
    countText(without.asked),
    countText(without.upstream),
    reused ? countText(reused.upstream) : '',
    money(without.money),
    reused ? money(reused.money) : '',
  ])
  return tableOf(['from', 'asked', 'upstream without', 'with', 'money without', 'with'], rows)
}

/** Whose calls they were, where that was counted. */
function labelLines(report: Report): string[] {
  const rows = labelTable(report, money)
  return rows
    ? tableOf(
        labelHeads,
        rows.map((cells) => cells.map(escaped)),
      )
    : []
}

/** The keys that saved most calls, where the report tells them. */
function keyTable({ byKey }: Report): string[] {
  if (!byKey) return []
  const rows = byKey.list.map(({ provider, endpoint, key, saved, asked, upstream }) => [
    escaped(`${provider}.${endpoint}`),
    ...[saved, asked, upstream].map(countText),
    `\`${key.replaceAll('|', '\\|').replaceAll('`', "'")}\``,
  ])
  return tableOf(['endpoint', 'saved', 'asked', 'upstream', 'key'], rows)
}

/** Text that Markdown shows as it is. */
function escaped(text: string): string {
  return text.replace(/[\\`*_{}[\]<>#|~!&]/g, '\\$&')
}

function tableOf(names: readonly string[], rows: readonly string[][]): string[] {
  return [
    '',
    `| ${names.join(' | ')} |`,
    `| --- | ${names
      .slice(1)
      .map(() => '---:')
      .join(' | ')} |`,
    ...rows.map((cells) => `| ${cells.join(' | ')} |`),
  ]
}

const heads = ['', '', 'asked', 'upstream', 'refused', 'failed', 'from store', 'stale', 'money', 'median', 'p95']

/** Fees that belong to no endpoint, where there are any. */
function feeRows(name: string, { without, with: made }: ProviderReport['fees']): string[][] {
  if (without.length === 0 && !made?.length) return []
  const row = (first: string, side: string, moneys: readonly Money[]) => [
    first,
    side,
    ...heads.slice(2).map((head) => (head === 'money' ? money(moneys) : '')),
  ]
  return [row(name, 'without', without), ...(made ? [row('', 'with', made)] : [])]
}

function rowsOf(name: string, { without, with: reused }: Comparison): string[][] {
  const cells = (figures: Figures | Without) => [
    countText(figures.asked),
    countText(figures.upstream),
    countText(figures.refused),
    countText(figures.failed),
    countText('fromStore' in figures ? figures.fromStore : 0),
    countText('stale' in figures ? figures.stale : 0),
    money(figures.money),
    figures.latencyMs ? latencyText(figures.latencyMs.median) : '?',
    figures.latencyMs ? latencyText(figures.latencyMs.p95) : '?',
  ]
  return [
    [name, without.basis === 'measured' ? 'without' : 'without (estimated)', ...cells(without)],
    ...(reused ? [['', 'with', ...cells(reused)]] : []),
  ]
}
