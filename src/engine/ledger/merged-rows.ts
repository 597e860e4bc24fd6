import type { TallyRow } from '../../core/ledger/ledger-row.js'

/** One row a bucket and endpoint. */
export function mergedRows(rows: readonly TallyRow[]): TallyRow[] {
  const byPlace = new Map<string, TallyRow>()
  for (const row of rows) {
    const place = JSON.stringify([row.bucket, row.grain, row.mode, row.provider, row.endpoint])
    const known = byPlace.get(place)
    if (known) known.tally.merge(row.tally)
    else byPlace.set(place, row)
  }
  return [...byPlace.values()]
}
