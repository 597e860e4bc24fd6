import type { Entry } from '../../core/ports/entry-store.js'
import type { Slot } from './slot.js'

/** What a copy takes besides its body and what readers make of it, bytes. */
const overhead = 1_000

/** Entries at hand, with what their readers made of them: the latest that there is room for. */
export class Copies {
  readonly #maxBytes: number
  readonly #bytesOf = new Map<Slot, number>()
  #bytes = 0

  constructor(maxBytes: number) {
    this.#maxBytes = maxBytes
  }

  /** The entry of a slot; kept at hand where its latest use is so few uses ago that there is room for what was used since. */
  of(slot: Slot, usesSince: number): Entry {
    if (slot.copy) return slot.copy
    const entry = slot.entry()
    // once as bytes, once for the decoded form that readers keep beside them
    const bytes = 2 * (entry.body.byteLength + entry.head.length) + overhead
    if (bytes * usesSince > this.#maxBytes) return entry
    slot.copy = entry
    this.#bytesOf.set(slot, bytes)
    this.#bytes += bytes
    for (const [oldest] of this.#bytesOf) {
      if (this.#bytes <= this.#maxBytes) break
      this.drop(oldest)
    }
    return entry
  }

  drop(slot: Slot): void {
    if (!slot.copy) return
    slot.copy = undefined
    this.#bytes -= this.#bytesOf.get(slot) ?? 0
    this.#bytesOf.delete(slot)
  }
}
