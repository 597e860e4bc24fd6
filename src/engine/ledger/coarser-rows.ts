import { coarsened } from '../../core/ledger/coarsen.js'
import type { TallyRow } from '../../core/ledger/ledger-row.js'

/** Rows in coarser buckets, hours and then days, until there are no more than `most`. */
export function coarserRows(rows: readonly TallyRow[], most: number): TallyRow[] {
  let few = [...rows]
  for (const grain of ['hour', 'day'] as const) {
    if (few.length > most) few = coarsened(few, grain, [], undefined).filter(({ isDetail }) => !isDetail)
  }
  return few
}
