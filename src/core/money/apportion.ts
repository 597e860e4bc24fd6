import Big from 'big.js'

/**
 * Splits an amount in proportion to shares, so that the parts add up to it exactly: each part is cut off at the last decimal that counts,
 * and what is left over goes, one unit of that decimal each, to those that lost most by it, the first of equals first. Undefined where all
 * shares are 0.
 */
export function apportioned(amount: Big, shares: readonly number[], decimals: number): Big[] | undefined {
  const whole = shares.reduce((sum, share) => sum + share, 0)
  if (whole === 0) return undefined
  const places = Math.max(decimals, decimalsOf(amount))
  const precise = quotients(places + 12)
  const exact = shares.map((share) => precise(amount.times(share), whole))
  const parts = exact.map((part) => part.round(places, Big.roundDown))
  const unit = new Big(10).pow(-places).times(amount.lt(0) ? -1 : 1)
  const left = amount.minus(parts.reduce((sum, part) => sum.plus(part), new Big(0))).div(unit)
  const losers = exact
    .map((part, i) => ({ i, lost: part.minus(parts[i] as Big).abs() }))
    .filter(({ i }) => (shares[i] as number) > 0)
    .sort((a, b) => b.lost.cmp(a.lost) || a.i - b.i)
  for (const { i } of losers.slice(0, Number(left.round()))) parts[i] = (parts[i] as Big).plus(unit)
  return parts
}

function decimalsOf(amount: Big): number {
  return amount.toFixed().split('.')[1]?.length ?? 0
}

/** What divides to more decimals than the library's own default gives. */
function quotients(places: number): (amount: Big, by: number) => Big {
  const Precise = Big()
  Precise.DP = places
  return (amount, by) => new Big(new Precise(amount).div(by))
}
