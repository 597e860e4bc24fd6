import Big from 'big.js'
import type { Money } from '../money/money.js'
import { digitsOf } from '../money/price-digits.js'
import type { ExchangeRates } from './ledger-row.js'
import type { Comparison, Converted } from './report-model.js'

/** All money in one currency; undefined where no rates are given, or not for every currency. */
export function convert({ without, with: reused, saved }: Comparison, known: ExchangeRates | undefined): Converted | undefined {
  if (!known) return undefined
  const { currency, rates } = known
  const used = new Set([...without.money, ...(reused?.money ?? [])].map((money) => money.currency))
  if ([...used].some((one) => one !== currency && rates[one] === undefined)) return undefined
  const inOne = (moneys: readonly Money[]): Money => {
    const sum = moneys.reduce((total, money) => total.plus(new Big(money.amount).times(rates[money.currency] ?? 1)), new Big(0))
    return { currency, amount: sum.round(digitsOf(currency), Big.roundHalfUp).toFixed() }
  }
  return { currency, rates, without: inOne(without.money), with: reused && inOne(reused.money), saved: saved && inOne(saved.money) }
}
