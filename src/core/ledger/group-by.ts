import { forEach, type Steps } from '../steps.js'

/** Groups in the order of their first members, each in the order of its members. */
export function* groupsOf<R, T>(rows: readonly R[], of: (row: R) => T): Steps<Map<T, R[]>> {
  const groups = new Map<T, R[]>()
  yield* forEach(rows, (row) => {
    const name = of(row)
    const group = groups.get(name)
    if (group) group.push(row)
    else groups.set(name, [row])
  })
  return groups
}

/** Groups in the order of their names. */
export function* groupBy<R>(rows: readonly R[], nameOf: (row: R) => string): Steps<[string, R[]][]> {
  return [...(yield* groupsOf(rows, nameOf))].sort(([a], [b]) => (a < b ? -1 : 1))
}

/** The oldest first. Quick for those that come so, as they do of a ledger. */
export function* inTimeOrder<R extends { readonly bucket: number }>(rows: readonly R[]): Steps<readonly R[]> {
  let [last, isSorted] = [Number.NEGATIVE_INFINITY, true]
  yield* forEach(rows, ({ bucket }) => {
    if (bucket < last) isSorted = false
    last = bucket
  })
  return isSorted ? rows : [...rows].sort((a, b) => a.bucket - b.bucket)
}
