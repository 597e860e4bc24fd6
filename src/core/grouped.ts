/** Items by what `of` says of each, in the order in which that came up first. */
export function grouped<T, K>(items: Iterable<T>, of: (item: T) => K): Map<K, T[]> {
  const groups = new Map<K, T[]>()
  for (const item of items) {
    const key = of(item)
    const group = groups.get(key)
    if (group) group.push(item)
    else groups.set(key, [item])
  }
  return groups
}
