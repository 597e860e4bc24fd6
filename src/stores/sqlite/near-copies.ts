import type { Entry } from '../../core/ports/entry-store.js'

/** What a copy takes beside its key, head and body, bytes. */
const overhead = 400

/** Entries as they were read, in this process: the latest of them that there is room for. */
export class NearCopies {
  readonly #maxBytes: number
  readonly #copies = new Map<string, Entry>()
  #bytes = 0

  constructor(maxBytes: number) {
    this.#maxBytes = maxBytes
  }

  get(key: string): Entry | undefined {
    return this.#copies.get(key)
  }

  keep(entry: Entry): void {
    this.drop(entry.key)
    const bytes = bytesOf(entry)
    if (bytes > this.#maxBytes / 8) return
    this.#copies.set(entry.key, entry)
    this.#bytes += bytes
    while (this.#bytes > this.#maxBytes) this.drop(this.#copies.keys().next().value as string)
  }

  drop(key: string): void {
    const copy = this.#copies.get(key)
    if (!copy) return
    this.#copies.delete(key)
    this.#bytes -= bytesOf(copy)
  }

  clear(): void {
    this.#copies.clear()
    this.#bytes = 0
  }
}

/** Bodies count twice: once as bytes, once for the decoded form that readers keep beside them. Characters count two bytes. */
function bytesOf({ key, head, body }: Entry): number {
  return 2 * (body.byteLength + key.length + head.length) + overhead
}
