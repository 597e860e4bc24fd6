import type { LedgerRow } from './ledger-row.js'

/** Groups in the order of their names. */
export function groupBy(rows: readonly LedgerRow[], nameOf: (row: LedgerRow) => string): [string, LedgerRow[]][] {
  const groups = new Map<string, LedgerRow[]>()
  for (const row of rows) {
    const group = groups.get(nameOf(row))
    if (group) group.push(row)
    else groups.set(nameOf(row), [row])
  }
  return [...groups].sort(([a], [b]) => (a < b ? -1 : 1))
}
