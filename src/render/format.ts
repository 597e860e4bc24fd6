import type { PricedPeriod } from '../core/ledger/provider-prices.js'
import type { Report } from '../core/ledger/report-model.js'
import type { BudgetStatus } from '../core/limits/status.js'
import type { Money } from '../core/money/money.js'

/** Formats for people, in English; machines read the report model itself. Made when it is needed, which takes 20 ms the first time. */
let whole: Intl.NumberFormat | undefined

export function countText(count: number | null): string {
  if (count === null) return '?'
  if (Number.isInteger(count) && count >= 0 && count < 1_000) return `${count}`
  whole ??= new Intl.NumberFormat('en')
  return whole.format(count)
}

/** So many of something, e.g. `1 entry`, `1,200 entries`. */
export function countOf(count: number, one: string, many = `${one}s`): string {
  return `${countText(count)} ${count === 1 ? one : many}`
}

/**
 * Writes sums of money: every amount with its currency, `-` where no price is known. A currency has its own decimals (ISO 4217), and an
 * amount more only where it has more.
 */
export function moneyText(moneys: readonly Money[]): string {
  return moneys.length === 0 ? '-' : moneys.map(amountText).join(' + ')
}

function amountText({ currency, amount }: Money): string {
  const format = formats.get(currency) ?? new Intl.NumberFormat('en', { style: 'currency', currency, currencyDisplay: 'code' })
  formats.set(currency, format)
  const own = format.resolvedOptions().minimumFractionDigits ?? 2
  const needed = amount.split('.')[1]?.length ?? 0
  const exact =
    needed <= own
      ? format
      : new Intl.NumberFormat('en', { style: 'currency', currency, currencyDisplay: 'code', minimumFractionDigits: needed })
  return exact.format(amount as Intl.StringNumericLiteral).replace(/\u00a0/g, ' ')
}

const formats = new Map<string, Intl.NumberFormat>()

/** Returns what writes money in the cells of a column: filled up to the right, so that the decimal points of `all` stand under each other. */
export function moneyCells(all: readonly Money[], { isBare = false } = {}): (moneys: readonly Money[]) => string {
  const decimals = (money: Money) => /\.\d+$/.exec(amountText(money))?.[0].length ?? 0
  const most = Math.max(0, ...all.map(decimals))
  return (moneys) => {
    const last = moneys.at(-1)
    if (!last) return isBare ? '-' : moneyText(moneys)
    return (isBare ? amountText(last).replace(`${last.currency} `, '') : moneyText(moneys)) + ' '.repeat(Math.max(0, most - decimals(last)))
  }
}

/** A billing period, from its first day to its last, in the days of its plan. */
export function periodDays({ from, until, zone }: { readonly from: Date; readonly until: Date; readonly zone: string }): string {
  const day = (at: Date) => momentText(at, zone).slice(0, 10)
  return `${day(from)} to ${day(new Date(until.getTime() - 1))}`
}

/** A name, cut off where it is longer. */
export function shortened(name: string, length: number): string {
  return name.length > length ? `${name.slice(0, length - 1)}\u2026` : name
}

/** What a billing period cost, e.g. `billed EUR 19.00 for 2026-06-01 to 2026-06-30`. */
export function periodText(period: PricedPeriod): string {
  return `billed ${moneyText([period])} for ${periodDays(period)}${period.partial ? ' (in part)' : ''}`
}

/** How far a budget is spent, e.g. `budget of EUR 35 per month: EUR 30.82 (88%) spent`. */
export function budgetText({ budget, amount, currency, spent, level }: BudgetStatus): string {
  const text = currency === null ? countText(Number(spent)) : moneyText([{ currency, amount: spent }])
  const words = { free: '', warn: ', nearly all', stretch: ', stretched with older answers', stop: ', nothing leaves' }
  return `${budget}: ${text} (${shareText(Number(spent), Number(amount))}) spent${words[level]}`
}

/** What a report says in which no call was counted, line by line: which fees fell due. */
export function nothingCounted({ providers }: Pick<Report, 'providers'>): string[] {
  const fees = providers.flatMap(({ provider, periods }) => periods.map((period) => `${provider}: ${periodText(period)}`))
  return ['No calls were counted in this time.', ...fees]
}

export function latencyText(ms: number): string {
  if (ms === 0) return '0 ms'
  if (ms < 1) return `${ms.toFixed(2)} ms`
  if (ms < 10) return `${ms.toFixed(1)} ms`
  return ms < 1_000 ? `${Math.round(ms)} ms` : `${(ms / 1000).toFixed(1)} s`
}

/** A share of a whole, e.g. `84%`; small and nearly whole shares are not rounded to none and all. */
export function shareText(part: number, whole: number): string {
  if (whole === 0) return '-'
  const percent = (100 * part) / whole
  if (percent > 0 && percent < 1) return '<1%'
  return percent > 99 && percent < 100 ? '>99%' : `${Math.round(percent)}%`
}

/** A moment in a time zone, to the minute, e.g. `2026-06-30 06:00`; `medium`: to the second. */
export function momentText(moment: Date, zone: string, timeStyle: 'short' | 'medium' = 'short'): string {
  const parts = new Intl.DateTimeFormat('sv-SE', { timeZone: zone, dateStyle: 'short', timeStyle })
  return parts.format(moment)
}

/** A length of time to two units at the most, e.g. `3 h 20 min`. */
export function ageText(ms: number): string {
  const units = [
    ['d', 86_400_000],
    ['h', 3_600_000],
    ['min', 60_000],
    ['s', 1_000],
  ] as const
  const first = units.findIndex(([, length]) => ms >= length)
  if (first < 0) return `${Math.round(ms)} ms`
  let left = ms
  const parts = units.slice(first, first + 2).map(([unit, length]) => {
    const count = Math.floor(left / length)
    left -= count * length
    return count === 0 ? '' : `${count} ${unit}`
  })
  return parts.filter((part) => part !== '').join(' ')
}

/** A sentence in lines of up to 80 characters. */
export function wrapped(sentence: string, indent = ''): string[] {
  const lines = sentence.match(new RegExp(`.{1,${80 - indent.length}}(?:\\s|$)`, 'g')) ?? [sentence]
  return lines.map((line) => indent + line.trimEnd())
}
