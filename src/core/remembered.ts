/** What an entry takes beside characters, bytes. */
const overhead = 200

/** Characters beyond these take two bytes each, and so do all others of a text that has one. */
const wideCharacter = /[^\0-\u00ff]/

/** What is remembered by text, within some bytes: what was not asked for lately is forgotten. */
export class Remembered<T> {
  readonly #maxBytes: number
  #young = new Map<string, Kept<T>>()
  #old = new Map<string, Kept<T>>()
  #bytes = 0

  constructor(maxBytes: number) {
    this.#maxBytes = maxBytes
  }

  get(text: string): T | undefined {
    return (this.#young.get(text) ?? this.#again(text))?.value
  }

  /** `texts`: what the value holds besides `text`. */
  set(text: string, value: T, texts: readonly string[] = []): void {
    const bytes = texts.reduce((sum, one) => sum + bytesOf(one), bytesOf(text) + overhead)
    this.#keep(text, { value, bytes })
  }

  #keep(text: string, one: Kept<T>): void {
    const { bytes } = one
    const most = this.#maxBytes / 2
    if (bytes > most) return
    if (this.#bytes + bytes > most) {
      this.#old = this.#young
      this.#young = new Map()
      this.#bytes = 0
    }
    this.#young.set(text, one)
    this.#bytes += bytes
  }

  #again(text: string): Kept<T> | undefined {
    if (this.#old.size === 0) return undefined
    const one = this.#old.get(text)
    if (one !== undefined) this.#keep(text, one)
    return one
  }
}

interface Kept<T> {
  readonly value: T
  readonly bytes: number
}

function bytesOf(text: string): number {
  return wideCharacter.test(text) ? 2 * text.length : text.length
}
