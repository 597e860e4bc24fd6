import type { Comparison, Figures, Report, Without } from '../core/ledger/report-model.js'
import type { Money } from '../core/money/money.js'
import { countText, latencyText, momentText, moneyWriter } from './format.js'
import { printable } from './printable.js'
import { notesOf } from './remarks.js'

/** A report as Markdown: a table of endpoints and providers, and what was saved. */
export function reportMarkdown(given: Report, zone: string): string {
  const report = printable(given)
  const { since, until, providers, totals } = report
  const notes = notesOf(report).flatMap((note) => ['', `Note: ${escaped(note)}.`])
  if (since === null || until === null) return ['No calls were counted in this time.', ...notes, ''].join('\n')
  const comparisons = [totals, ...providers, ...providers.flatMap(({ endpoints }) => endpoints)]
  const money = moneyWriter(comparisons.flatMap(moneysOf))
  const rows = providers.flatMap(({ provider, endpoints, ...whole }) => [
    ...endpoints.flatMap((one) => rowsOf(escaped(`${provider}.${one.endpoint}`), one, money)),
    ...rowsOf(`**${escaped(provider)}**`, whole, money),
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
    ...[...rows, ...rowsOf('**all calls**', totals, money)].map((cells) => `| ${cells.join(' | ')} |`),
    ...timeTable(report, zone, money),
    ...keyTable(report),
    ...notes,
    ...(saved
      ? [
          '',
          `Saved ${countText(saved.calls)} of ${countText(totals.without.asked)} calls and ${money(saved.money)}${totals.without.basis === 'estimated' ? ' (estimated)' : ''}. ${report.savedMeans}`,
        ]
      : []),
    '',
  ].join('\n')
}

/** Calls hour by hour or day by day, where the report tells them so. */
function timeTable({ times = [] }: Report, zone: string, money: (moneys: readonly Money[]) => string): string[] {
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

/** The keys that saved most calls, where the report tells them. */
function keyTable({ byKey }: Report): string[] {
  if (!byKey) return []
  const rows = byKey.list.map(({ provider, endpoint, key, avoided, asked, upstream }) => [
    escaped(`${provider}.${endpoint}`),
    ...[avoided, asked, upstream].map(countText),
    `\`${key.replaceAll('|', '\\|').replaceAll('`', "'")}\``,
  ])
  return tableOf(['endpoint', 'avoided', 'asked', 'upstream', 'key'], rows)
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

function moneysOf({ without, with: reused, saved }: Comparison): readonly Money[] {
  return [...without.money, ...(reused?.money ?? []), ...(saved?.money ?? [])]
}

function rowsOf(name: string, { without, with: reused }: Comparison, money: (moneys: readonly Money[]) => string): string[][] {
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
