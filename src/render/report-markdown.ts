import type { Comparison, Figures, Report, Without } from '../core/ledger/report-model.js'
import type { Money } from '../core/money/money.js'
import { countText, latencyText, momentText, moneyWriter } from './words.js'

/** A report as Markdown: a table of endpoints and providers, and what was saved. */
export function reportMarkdown(report: Report, zone: string): string {
  const { since, until, providers, totals } = report
  if (since === null || until === null) return 'No calls were counted in this time.\n'
  const comparisons = [totals, ...providers, ...providers.flatMap(({ endpoints }) => endpoints)]
  const money = moneyWriter(comparisons.flatMap(moneysOf))
  const rows = providers.flatMap(({ provider, endpoints, ...whole }) => [
    ...endpoints.flatMap((one) => rowsOf(`${provider}.${one.endpoint}`, one, money)),
    ...rowsOf(`**${provider}**`, whole, money),
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
    ...(saved ? ['', `Saved ${countText(saved.upstreamCalls)} upstream calls and ${money(saved.money)}.`] : []),
    '',
  ].join('\n')
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
    [name, without.basis === 'measured' ? 'without' : 'without (reckoned)', ...cells(without)],
    ...(reused ? [['', 'with', ...cells(reused)]] : []),
  ]
}
