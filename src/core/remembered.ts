/** What an entry takes beside characters, bytes. */
const overhead = 400

/** What is remembered by text, within some bytes: what was not asked for lately is forgotten. */
export class Remembered<T> {
  readonly #maxBytes: number
  #young = new Map<string, T>()
  #old = new Map<string, T>()
  #bytes = 0

  constructor(maxBytes: number) {
    this.#maxBytes = maxBytes
  }

  get(text: string): T | undefined {
    return this.#young.get(text) ?? this.#again(text)
  }

  /** `more`: characters that the value takes besides those of `text`. */
  set(text: string, value: T, more = 0): void {
    const bytes = 2 * (text.length + more) + overhead
    const most = this.#maxBytes / 2
    if (bytes > most) return
    if (this.#bytes + bytes > most) {
      this.#old = this.#young
      this.#young = new Map()
      this.#bytes = 0
    }
    this.#young.set(text, value)
    this.#bytes += bytes
  }

  #again(text: string): T | undefined {
    if (this.#old.size === 0) return undefined
    const value = this.#old.get(text)
    if (value !== undefined) this.set(text, value, text.length)
    return value
  }
}
