import Big from 'big.js'

/** Decimals in the currency of the plan; `difference` is 0 where `theirs` are `ours`, rounded. */
export interface AmountsCompared {
  readonly theirs: string
  readonly ours: string
  readonly difference: string
}

/** Compares the sum of amounts, which may be rounded to so many decimals at the least, with an exact one. */
export function compareAmounts(amounts: readonly string[], ours: Big, least: number): AmountsCompared {
  const theirs = amounts.reduce((sum, amount) => sum.plus(amount), new Big(0))
  const decimals = Math.max(least, ...amounts.map((amount) => amount.split('.')[1]?.length ?? 0))
  const rounding = new Big(10).pow(-decimals).div(2)
  const difference = theirs.minus(ours)
  return { theirs: theirs.toFixed(), ours: ours.toFixed(), difference: difference.abs().lte(rounding) ? '0' : difference.toFixed() }
}

export function sumOfAmounts(amounts: readonly AmountsCompared[]): AmountsCompared | null {
  const sum = (name: keyof AmountsCompared) => amounts.reduce((total, amount) => total.plus(amount[name]), new Big(0)).toFixed()
  return amounts.length === 0 ? null : { theirs: sum('theirs'), ours: sum('ours'), difference: sum('difference') }
}
