import Big from 'big.js'

/** Decimals read lately, by their text: prices and sums come again with every call. */
const latest = new Map<string, Big>()
const mostLatest = 500

/** The number that a decimal stands for. It never changes, so it may be kept. */
export function decimal(text: string): Big {
  const known = latest.get(text)
  if (known) return known
  const read = new Big(text)
  if (latest.size >= mostLatest) latest.clear()
  latest.set(text, read)
  return read
}

export const zero = new Big(0)
