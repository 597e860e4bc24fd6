import Big from 'big.js'
import type { Comparison, Figures, ProviderReport, Report, Without } from '../core/ledger/report-model.js'
import { type Money, MoneySum } from '../core/money/money.js'
import { digitsOf } from '../core/money/price-digits.js'
import { ageText, countText, latencyText, momentText, moneyCells, shareText } from './format.js'
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
  readonly before: ComparedSide | undefined
  readonly after: ComparedSide | undefined
}

/** `perThousand`: null where it would not be the same prices that are compared. */
interface ComparedSide {
  readonly made: Figures | Without
  readonly perThousand: readonly Money[] | null
}

/** Two reports as text for a terminal: each endpoint, provider and all calls before and after, as they really were made. */
export function comparisonText(given: BeforeAfter, { colors, zone, wide = false }: TextOptions): string {
  const { before, after } = printable(given)
  if (before.since === null || after.since === null) {
    return `No calls were counted ${before.since === null ? 'before' : 'after'}: there is nothing to compare.\n`
  }
  const notCompared = notComparable({ before, after })
  const lines = linesOf(before, after, notCompared)
  const money = moneyCells(lines.flatMap(({ before: was, after: is }) => [was, is].flatMap((one) => one?.perThousand ?? [])))
  const all = ['asked', 'upstream', 'from store', 'stale', 'refused', 'failed', 'changed', 'money per 1,000', 'median', 'p95']
  const shown = all.map((name) => wide || ['asked', 'upstream', 'from store', 'failed', 'money per 1,000'].includes(name))
  const picked = (cells: readonly string[]) => cells.filter((_, i) => shown[i])
  const head = ['', '', ...picked(all)]
  const rows = lines.flatMap(({ name, before: was, after: is }) => {
    const isBetter = areBetter(was, is)
    const after = cellsOf(is, money).map((cell, i) => (isBetter[i] ? colors.green(cell) : cell))
    return [
      [name, 'before', ...picked(cellsOf(was, money))],
      ['', 'after', ...picked(after)],
    ]
  })
  return [
    `${colors.bold('before')}  ${spanText(before, zone)}`,
    `${colors.bold('after')}   ${spanText(after, zone)}`,
    '',
    textTable(head, rows, { dim: colors.dim, aligns: ['left', 'left', ...head.slice(2).map(() => 'right' as const)] }),
    '',
    ...(wide
      ? ['Shares are of the calls asked; "changed" is of the answers refreshed.']
      : ['Shares are of the calls asked; failed: callers given an error.']),
    'Money is that of the calls made, without fees, for 1,000 calls asked.',
    ...(notCompared.length > 0
      ? [
          `Money of ${notCompared.join(', ')} is left out: what a call costs there depends on`,
          'the calls before it in the billing period. Compare whole billing periods.',
        ]
      : []),
    '',
  ].join('\n')
}

function spanText({ since, until }: Report, zone: string): string {
  if (since === null || until === null) return ''
  return `${momentText(since, zone)} to ${momentText(until, zone)} (${zone}), ${ageText(until.getTime() - since.getTime())}`
}

function linesOf(before: Report, after: Report, notCompared: readonly string[]): ComparedLine[] {
  const names = [...new Set([...before.providers, ...after.providers].map(({ provider }) => provider))].sort()
  const perProvider = names.flatMap((name) => {
    const [was, is] = [before, after].map(({ providers }) => providers.find(({ provider }) => provider === name))
    const endpoints = [...new Set([was, is].flatMap((one) => one?.endpoints.map(({ endpoint }) => endpoint) ?? []))].sort()
    const side = (line: Comparison | undefined, priced: readonly Comparison[]) =>
      line && { made: madeOf(line), perThousand: notCompared.includes(name) ? null : perThousand(priced) }
    const ofEndpoint = (provider: ProviderReport | undefined, endpoint: string) => {
      const line = provider?.endpoints.find((one) => one.endpoint === endpoint)
      return side(line, line ? [line] : [])
    }
    return [
      { name, before: side(was, was?.endpoints ?? []), after: side(is, is?.endpoints ?? []) },
      ...endpoints.map((endpoint) => ({ name: `  ${endpoint}`, before: ofEndpoint(was, endpoint), after: ofEndpoint(is, endpoint) })),
    ]
  })
  const all = ({ totals, providers }: Report) => {
    const compared = providers.filter(({ provider }) => !notCompared.includes(provider))
    const priced = compared.flatMap(({ endpoints }) => endpoints)
    return { made: madeOf(totals), perThousand: compared.length === 0 ? null : perThousand(priced) }
  }
  return [...perProvider, { name: 'all calls', before: all(before), after: all(after) }]
}

/** Providers of which the one time or the other has a part of a billing period in which the price of a call depends on those before it. */
function notComparable({ before, after }: BeforeAfter): string[] {
  const odd = [before, after].flatMap(({ providers }) =>
    providers.filter(({ periods, credits }) => periods.some((period) => period.dependsOnVolume && (period.partial || credits !== null))),
  )
  return [...new Set(odd.map(({ provider }) => provider))].sort()
}

/** What was really done: with the stash, or while it only measured. */
function madeOf({ with: reused, without }: Comparison): Figures | Without {
  return reused ?? without
}

/** What the calls of endpoints cost, without fees, for a thousand of those asked; in the decimals of the currency. */
function perThousand(endpoints: readonly Comparison[]): Money[] {
  const asked = endpoints.reduce((sum, one) => sum + madeOf(one).asked, 0)
  const sums = new MoneySum()
  for (const endpoint of endpoints) sums.addAll(madeOf(endpoint).money)
  return asked === 0
    ? []
    : sums.toMoney().map(({ currency, amount }) => ({
        currency,
        amount: new Big(amount).times(1000).div(asked).round(digitsOf(currency), Big.roundHalfUp).toFixed(),
      }))
}

/** Which of the cells of a line are better than they were before. */
function areBetter(before: ComparedSide | undefined, after: ComparedSide | undefined): (boolean | undefined)[] {
  if (!before || !after || before.made.asked === 0 || after.made.asked === 0) return []
  const [was, is] = [before.made, after.made]
  const share = (count: number | null | undefined, of: Figures | Without) => (count ?? Number.NaN) / of.asked
  const isLess = (count: (of: Figures | Without) => number | null) => share(count(is), is) < share(count(was), was)
  const fromStore = (of: Figures | Without) => ('fromStore' in of ? of.fromStore : 0)
  const isSooner = (what: 'median' | 'p95') => (is.latencyMs?.[what] ?? Number.NaN) < (was.latencyMs?.[what] ?? Number.NaN)
  return [
    false,
    isLess(({ upstream }) => upstream),
    share(fromStore(is), is) > share(fromStore(was), was),
    false,
    isLess(({ refused }) => refused),
    isLess(({ errored }) => errored),
    false,
    isCheaper(after.perThousand ?? [], before.perThousand ?? []),
    isSooner('median'),
    isSooner('p95'),
  ]
}

/** Of amounts in several currencies none is the cheaper. */
function isCheaper([cost, ...more]: readonly Money[], [before, ...others]: readonly Money[]): boolean {
  if (!cost || !before || more.length + others.length > 0) return false
  return cost.currency === before.currency && new Big(cost.amount).lt(before.amount)
}

function cellsOf(side: ComparedSide | undefined, money: (moneys: readonly Money[]) => string): string[] {
  if (!side) return ['0', ...Array(9).fill('-')]
  const { made: figures } = side
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
    side.perThousand ? money(side.perThousand) : '?',
    latencyMs ? latencyText(latencyMs.median) : '?',
    latencyMs ? latencyText(latencyMs.p95) : '?',
  ]
}
