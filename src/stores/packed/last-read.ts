import type { Entry } from '../../core/ports/entry-store.js'

/** What is kept of entries as they were read, bytes at the most. */
const maxBytes = 8 * 1024 * 1024

/** Entries that were read last, by the objects that the store gave: it may give the very same again. */
export class LastRead {
  readonly #entries = new Map<Entry, Entry>()
  #bytes = 0

  of(given: Entry): Entry | undefined {
    return this.#entries.get(given)
  }

  keep(given: Entry, read: Entry): void {
    const bytes = bytesOf(read)
    if (bytes > maxBytes / 8 || this.#entries.has(given)) return
    this.#entries.set(given, read)
    this.#bytes += bytes
    for (const [oldest, its] of this.#entries) {
      if (this.#bytes <= maxBytes) return
      this.#entries.delete(oldest)
      this.#bytes -= bytesOf(its)
    }
  }
}

/** Twice the body, for what readers make of it beside it; characters count two bytes. */
function bytesOf({ key, head, body }: Entry): number {
  return 2 * (body.byteLength + key.length + head.length) + 400
}
