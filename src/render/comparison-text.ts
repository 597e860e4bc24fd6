import Big from 'big.js'
import type { Comparison, Figures, Report, Without } from '../core/ledger/report-model.js'
import type { Money } from '../core/money/money.js'
import { ageText, countText, latencyText, momentText, moneyWriter, shareText } from './format.js'
import { textTable } from './plain-table.js'
import { printable } from './printable.js'
import type { TextOptions } from './text-options.js'

/** Two stretches of time compared with each other. */
export interface BeforeAfter {
  readonly before: Report
  readonly after: Report
}

interface ComparedLine {
  readonly name: string
  readonly before: Comparison | undefined
  readonly after: Comparison | undefined
}

/** Two reports as text for a terminal: each endpoint, provider and all calls before and after, as they really were made. */
export function comparisonText(given: BeforeAfter, { colors, zone, wide = false }: TextOptions): string {
  const { before, after } = printable(given)
  if (before.since === null || after.since === null) {
    return `No calls were counted ${before.since === null ? 'before' : 'after'}: there is nothing to compare.\n`
  }
  const lines = linesOf(before, after)
  const money = moneyWriter(lines.flatMap((line) => [line.before, line.after].flatMap((one) => (one ? perThousand(one) : []))))
  const all = ['asked', 'upstream', 'from store', 'stale', 'refused', 'failed', 'changed', 'money per 1,000', 'median', 'p95']
  const shown = all.map((name) => wide || ['asked', 'upstream', 'from store', 'failed', 'money per 1,000'].includes(name))
  const picked = (cells: readonly string[]) => cells.filter((_, i) => shown[i])
  const head = ['', '', ...picked(all)]
  const rows = lines.flatMap(({ name, before: was, after: is }) => [
    [name, 'before', ...picked(cellsOf(was, money))],
    ['', colors.green('after'), ...picked(cellsOf(is, money)).map((cell) => colors.green(cell))],
  ])
  return [
    `${colors.bold('before')}  ${spanText(before, zone)}`,
    `${colors.bold('after')}   ${spanText(after, zone)}`,
    '',
    textTable(head, rows, { dim: colors.dim, aligns: ['left', 'left', ...head.slice(2).map(() => 'right' as const)] }),
    '',
    wide
      ? 'Shares are of the calls asked; "changed" is of the answers refreshed; money is that of the calls made, for 1,000 calls asked.'
      : 'Shares and money are for the calls asked; failed: callers given an error.',
    '',
  ].join('\n')
}

function spanText({ since, until }: Report, zone: string): string {
  if (since === null || until === null) return ''
  return `${momentText(since, zone)} to ${momentText(until, zone)} (${zone}), ${ageText(until.getTime() - since.getTime())}`
}

function linesOf(before: Report, after: Report): ComparedLine[] {
  const names = [...new Set([...before.providers, ...after.providers].map(({ provider }) => provider))].sort()
  const perProvider = names.flatMap((name) => {
    const [was, is] = [before, after].map(({ providers }) => providers.find(({ provider }) => provider === name))
    const endpoints = [...new Set([was, is].flatMap((one) => one?.endpoints.map(({ endpoint }) => endpoint) ?? []))].sort()
    return [
      { name, before: was, after: is },
      ...endpoints.map((endpoint) => ({
        name: `  ${endpoint}`,
        before: was?.endpoints.find((one) => one.endpoint === endpoint),
        after: is?.endpoints.find((one) => one.endpoint === endpoint),
      })),
    ]
  })
  return [...perProvider, { name: 'all calls', before: before.totals, after: after.totals }]
}

/** What was really done: with the stash, or while it only measured. */
function madeOf({ with: reused, without }: Comparison): Figures | Without {
  return reused ?? without
}

function perThousand(comparison: Comparison): Money[] {
  const { asked, money } = madeOf(comparison)
  return asked === 0
    ? []
    : money.map(({ currency, amount }) => ({ currency, amount: new Big(amount).times(1000).div(asked).round(4).toFixed() }))
}

function cellsOf(comparison: Comparison | undefined, money: (moneys: readonly Money[]) => string): string[] {
  if (!comparison) return ['0', ...Array(9).fill('-')]
  const figures = madeOf(comparison)
  const { asked, upstream, refused, errored, latencyMs } = figures
  const known = 'fromStore' in figures ? figures : { fromStore: 0, stale: 0, changed: 0, unchanged: 0 }
  return [
    countText(asked),
    shareText(upstream, asked),
    shareText(known.fromStore, asked),
    shareText(known.stale, asked),
    refused === null ? '?' : shareText(refused, asked),
    errored === null ? '?' : shareText(errored, asked),
    shareText(known.changed, known.changed + known.unchanged),
    money(perThousand(comparison)),
    latencyMs ? latencyText(latencyMs.median) : '?',
    latencyMs ? latencyText(latencyMs.p95) : '?',
  ]
}
