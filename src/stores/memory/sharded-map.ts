/** Values that are kept in one map, and how many parts there are beyond: a power of two. */
const mostInFirst = 16_384
const parts = 32

/**
 * A map by text of any size. A `Map` that has become much larger or smaller is laid out anew, all at once: a tenth of a second for a million
 * values. Its parts do so one at a time.
 */
export class ShardedMap<V extends object> {
  readonly #first = new Map<string, V>()
  /** What came when the first was full. */
  #parts: readonly Map<string, V>[] | undefined
  #size = 0

  get size(): number {
    return this.#size
  }

  get(key: string): V | undefined {
    return this.#parts === undefined ? this.#first.get(key) : (partOf(key, this.#parts).get(key) ?? this.#first.get(key))
  }

  set(key: string, value: V): void {
    if (this.#parts === undefined && this.#first.size >= mostInFirst) this.#parts = Array.from({ length: parts }, () => new Map())
    const map = this.#parts === undefined ? this.#first : this.#mapOf(key, this.#parts)
    const before = map.size
    map.set(key, value)
    this.#size += map.size - before
  }

  delete(key: string): boolean {
    const map = this.#parts === undefined ? this.#first : this.#mapOf(key, this.#parts)
    const isThere = map.delete(key)
    if (isThere) this.#size--
    return isThere
  }

  /** In no order. */
  *values(): IterableIterator<V> {
    yield* this.#first.values()
    for (const part of this.#parts ?? []) yield* part.values()
  }

  /** Where a key is, or belongs. */
  #mapOf(key: string, all: readonly Map<string, V>[]): Map<string, V> {
    const part = partOf(key, all)
    return part.has(key) || !this.#first.has(key) ? part : this.#first
  }
}

/** By 16 to 32 characters of a key, or all of a shorter one. */
function partOf<V>(key: string, all: readonly Map<string, V>[]): Map<string, V> {
  const { length } = key
  const step = (length >> 5) + 1
  let hash = length
  for (let i = length - 1; i >= 0; i -= step) hash = Math.imul(hash ^ key.charCodeAt(i), 0x01000193)
  return all[(hash ^ (hash >>> 15)) & (parts - 1)] as Map<string, V>
}
