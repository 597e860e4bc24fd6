import { bothHistograms } from './histogram.js'
import { isTally } from './readable-row.js'
import { addTo, hasAny } from './sums.js'
import { Tally } from './tally.js'
import { countNames, type TallyData } from './tally-data.js'

/** What was counted in both; what cannot be read of `one`, which stood in a store, counts for nothing. In the form that `Tally` has as JSON. */
export function sumTallies(one: TallyData, other: TallyData): TallyData {
  if (!isTally(one)) return other
  if (one.parts || other.parts) {
    const sum = Tally.from(one)
    sum.merge(Tally.from(other))
    return sum.toJSON()
  }
  const sum: Record<string, unknown> = {}
  for (const name of countNames) {
    const count = (one[name] ?? 0) + (other[name] ?? 0)
    if (count !== 0) sum[name] = count
  }
  const oldestStaleMs = Math.max(one.oldestStaleMs ?? 0, other.oldestStaleMs ?? 0)
  if (oldestStaleMs > 0) sum.oldestStaleMs = oldestStaleMs
  const [made, asked] = (['made', 'asked'] as const).map((kind) => both(one.units?.[kind], other.units?.[kind]))
  if (hasAny(made ?? {}) || hasAny(asked ?? {})) sum.units = { made, asked }
  for (const name of ['refetchedUnits', 'wouldHitUnits', 'notStored'] as const) {
    const amounts = both(one[name], other[name])
    if (hasAny(amounts)) sum[name] = amounts
  }
  for (const name of ['ms', 'upMs', 'ageMs', 'changedMs', 'unchangedMs'] as const) {
    const text = bothHistograms(one[name] ?? '', other[name] ?? '')
    if (text !== '') sum[name] = text
  }
  return sum as TallyData
}

function both(one: Readonly<Record<string, number>> = {}, other: Readonly<Record<string, number>> = {}): Record<string, number> {
  const sum: Record<string, number> = {}
  addTo(sum, one)
  addTo(sum, other)
  return sum
}
