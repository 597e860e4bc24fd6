import Big from 'big.js'

/** An amount of money; `amount` is an exact decimal. */
export interface Money {
  /** ISO 4217 code. */
  readonly currency: string
  readonly amount: string
}

/** Sums of money, one for each currency: different currencies are never added. */
export class MoneySum {
  readonly #sums = new Map<string, Big>()

  /** Adds `count` times `price`. */
  add(currency: string, price: string, count: number): void {
    this.#addBig(currency, new Big(price).times(count))
  }

  addAll(moneys: readonly Money[], sign: 1 | -1 = 1): void {
    for (const { currency, amount } of moneys) this.#addBig(currency, new Big(amount).times(sign))
  }

  /** One amount a currency, in the order of their codes. */
  toMoney(): Money[] {
    return [...this.#sums].sort(([a], [b]) => (a < b ? -1 : 1)).map(([currency, sum]) => ({ currency, amount: sum.toFixed() }))
  }

  #addBig(currency: string, amount: Big): void {
    this.#sums.set(currency, (this.#sums.get(currency) ?? new Big(0)).plus(amount))
  }
}

/** Whether `text` is a decimal that is not negative, such as `"0.004"`. */
export function isPrice(text: string): boolean {
  return /^\d+(\.\d+)?$/.test(text)
}

/** Whether a value of unknown origin is a price. */
export function isPriced(value: unknown): value is Money {
  const { currency, amount } = (value ?? {}) as Partial<Money>
  return typeof currency === 'string' && /^[A-Z]{3}$/.test(currency) && typeof amount === 'string' && isPrice(amount)
}

/** A price so many times. */
export function priceTimes({ currency, amount }: Money, count: number): Money {
  return { currency, amount: new Big(amount).times(count).toFixed() }
}
