import { Tally } from './tally.js'
import type { TallyData } from './tally-data.js'

/** What was counted in both. */
export function sumTallies(one: TallyData, other: TallyData): TallyData {
  const sum = Tally.from(one)
  sum.merge(Tally.from(other))
  return sum.toJSON()
}
