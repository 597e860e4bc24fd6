import type { Money } from '../core/money/money.js'

/** Formats for people, in English; machines read the report model itself. */
const whole = new Intl.NumberFormat('en')

export function countText(count: number | null): string {
  return count === null ? '?' : whole.format(count)
}

/**
 * Returns what writes sums of money: every amount with its currency, `-` where no price is known. A currency has its usual decimals
 * (ISO 4217), and more where cutting them off would change one of `all` amounts, so that they stand under each other.
 */
export function moneyWriter(all: readonly Money[]): (moneys: readonly Money[]) => string {
  const formats = new Map<string, Intl.NumberFormat>()
  for (const currency of new Set(all.map((money) => money.currency))) {
    const usual = new Intl.NumberFormat('en', { style: 'currency', currency }).resolvedOptions().maximumFractionDigits ?? 2
    const needed = all.filter((money) => money.currency === currency).map(({ amount }) => amount.split('.')[1]?.length ?? 0)
    const minimumFractionDigits = Math.max(usual, ...needed)
    formats.set(currency, new Intl.NumberFormat('en', { style: 'currency', currency, currencyDisplay: 'code', minimumFractionDigits }))
  }
  const text = ({ currency, amount }: Money) =>
    formats.get(currency)?.format(amount as Intl.StringNumericLiteral) ?? `${currency} ${amount}`
  return (moneys) =>
    moneys.length === 0
      ? '-'
      : moneys
          .map(text)
          .join(' + ')
          .replace(/\u00a0/g, ' ')
}

/** A billing period, from its first day to its last, in the days of its plan. */
export function periodDays({ from, until, zone }: { readonly from: Date; readonly until: Date; readonly zone: string }): string {
  const day = (at: Date) => momentText(at, zone).slice(0, 10)
  return `${day(from)} to ${day(new Date(until.getTime() - 1))}`
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
