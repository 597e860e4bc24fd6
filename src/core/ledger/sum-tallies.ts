import { isTally } from './readable.js'
import { Tally } from './tally.js'
import type { TallyData } from './tally-data.js'

/** What was counted in both; what cannot be read of `one`, which stood in a store, counts for nothing. */
export function sumTallies(one: TallyData, other: TallyData): TallyData {
  if (!isTally(one)) return other
  const sum = Tally.from(one)
  sum.merge(Tally.from(other))
  return sum.toJSON()
}
