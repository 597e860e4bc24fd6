import Big from 'big.js'
import type { PlanTerms } from '../money/plan.js'

/**
 * Calls under way, each at the most that it can cost. `id`: when they were to be counted as made at first, if nothing was heard of them;
 * `until`: when they are, where that is another moment by now.
 */
export type CallsUnderWay = readonly [id: number, calls: number, weight: number, own: string, until?: number]

export function untilOf([id, , , , until = id]: CallsUnderWay): number {
  return until
}

/** With one more call under way. */
export function withCall(all: readonly CallsUnderWay[], call: CallsUnderWay): CallsUnderWay[] {
  const place = all.findIndex((one) => isSame(one, call) && untilOf(one) === untilOf(call))
  const there = all[place]
  return there ? all.with(place, withCalls(there, there[1] + call[1])) : [...all, call]
}

/** With one call less under way; undefined where there is none that left as `call`. */
export function withoutCall(all: readonly CallsUnderWay[], call: CallsUnderWay): readonly CallsUnderWay[] | undefined {
  const place = all.findIndex((one) => isSame(one, call))
  const there = all[place]
  if (!there) return undefined
  return there[1] > 1 ? all.with(place, withCalls(there, there[1] - 1)) : all.toSpliced(place, 1)
}

/** With a call that left as `call` and is counted as made only at `until`. */
export function withLonger(all: readonly CallsUnderWay[], call: CallsUnderWay, until: number): readonly CallsUnderWay[] {
  const rest = withoutCall(all, call)
  const [id, , weight, own] = call
  return rest ? withCall(rest, [id, 1, weight, own, until]) : all
}

function isSame([id, , weight, own]: CallsUnderWay, [other, , its, each]: CallsUnderWay): boolean {
  return id === other && weight === its && own === each
}

function withCalls([id, , weight, own, until]: CallsUnderWay, calls: number): CallsUnderWay {
  return until === undefined ? [id, calls, weight, own] : [id, calls, weight, own, until]
}

/** The most that a call of a weight can be charged at any of some prices. */
export function highestPrice(terms: readonly PlanTerms[], weight: number): Big {
  let highest = new Big(0)
  for (const { perCall = '0', tiers = [], packages } of terms) {
    const prices = [perCall, ...tiers.map((tier) => tier.perCall)].map((price) => new Big(price).times(weight))
    if (packages) prices.push(new Big(packages.price).times(Math.ceil(weight / packages.of)))
    for (const price of prices) if (price.gt(highest)) highest = price
  }
  return highest
}
