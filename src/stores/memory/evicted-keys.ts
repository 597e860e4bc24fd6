/** What a key takes beside its characters, bytes. */
const keyOverhead = 100

/** Keys of entries that were dropped while they were fresh, with when their freshness ends: the latest of them that there is room for. */
export class EvictedKeys {
  readonly #maxBytes: number
  readonly #freshUntil = new Map<string, number>()
  #bytes = 0

  constructor(maxBytes: number) {
    this.#maxBytes = maxBytes
  }

  add(key: string, freshUntil: number): void {
    this.#forget(key)
    this.#freshUntil.set(key, freshUntil)
    this.#bytes += bytesOf(key)
    while (this.#bytes > this.#maxBytes) this.#forget(this.#freshUntil.keys().next().value as string)
  }

  /** Whether the entry of a key was dropped and would be fresh still; it is remembered no longer. */
  take(key: string, now: number): boolean {
    const freshUntil = this.#freshUntil.get(key)
    this.#forget(key)
    return freshUntil !== undefined && freshUntil > now
  }

  #forget(key: string): void {
    if (this.#freshUntil.delete(key)) this.#bytes -= bytesOf(key)
  }
}

function bytesOf(key: string): number {
  return 2 * key.length + keyOverhead
}
