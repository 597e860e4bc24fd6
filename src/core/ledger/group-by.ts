import type { TallyRow } from './ledger-row.js'

/** Groups in the order of their names. */
export function groupBy(rows: readonly TallyRow[], nameOf: (row: TallyRow) => string): [string, TallyRow[]][] {
  const groups = new Map<string, TallyRow[]>()
  for (const row of rows) {
    const group = groups.get(nameOf(row))
    if (group) group.push(row)
    else groups.set(nameOf(row), [row])
  }
  return [...groups].sort(([a], [b]) => (a < b ? -1 : 1))
}
