import { shortDigestOf } from '../../core/rules/digest.js'

/** Keys of entries that were dropped while they were fresh, by their digests, with when their freshness ends; the latest so many of them. */
export class EvictedKeys {
  readonly #freshUntil = new Map<number, number>()

  constructor(readonly most: number) {}

  add(key: string, freshUntil: number): void {
    this.#freshUntil.set(shortDigestOf(key), freshUntil)
    if (this.#freshUntil.size <= this.most) return
    for (const oldest of this.#freshUntil.keys()) {
      this.#freshUntil.delete(oldest)
      return
    }
  }

  /** Whether the entry of a key was dropped and would be fresh still; it is remembered no longer. */
  take(key: string, now: number): boolean {
    if (this.#freshUntil.size === 0) return false
    const digest = shortDigestOf(key)
    const freshUntil = this.#freshUntil.get(digest)
    return freshUntil !== undefined && this.#freshUntil.delete(digest) && freshUntil > now
  }
}
