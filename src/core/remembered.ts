/** What an entry takes beside characters, bytes. */
const overhead = 200

/** Characters beyond these take two bytes each, and so do all others of a text that has one. */
const wideCharacter = /[^\0-\u00ff]/

/** At most so many that were asked for again are kept on before one goes, so that finding it takes no time. */
const mostKeptOn = 8

/** What is remembered by text, within some bytes: the oldest goes first, but later where it was asked for again. */
export class Remembered<T> {
  readonly #maxBytes: number
  readonly #kept = new Map<string, Kept<T>>()
  #bytes = 0
  /** Goes on from the oldest; starting over each time, it would pass over all that are gone. */
  #oldest = this.#kept.entries()

  constructor(maxBytes: number) {
    this.#maxBytes = maxBytes
  }

  get(text: string): T | undefined {
    const one = this.#kept.get(text)
    if (one === undefined) return undefined
    one.isWanted = true
    return one.value
  }

  /** `texts`: what the value holds besides `text`. */
  set(text: string, value: T, texts: readonly string[] = []): void {
    const bytes = texts.reduce((sum, one) => sum + bytesOf(one), bytesOf(text) + overhead)
    if (bytes > this.#maxBytes / 2) return
    this.#bytes += bytes - (this.#kept.get(text)?.bytes ?? 0)
    this.#kept.set(text, { value, bytes, isWanted: false })
    while (this.#bytes > this.#maxBytes) this.#forgetOne()
  }

  #forgetOne(): void {
    for (let keptOn = 0; ; keptOn++) {
      const [text, one] = this.#next()
      this.#kept.delete(text)
      if (one.isWanted && keptOn < mostKeptOn) this.#kept.set(text, { ...one, isWanted: false })
      else {
        this.#bytes -= one.bytes
        return
      }
    }
  }

  #next(): [text: string, one: Kept<T>] {
    let next = this.#oldest.next()
    if (next.done) {
      this.#oldest = this.#kept.entries()
      next = this.#oldest.next()
    }
    return next.value as [string, Kept<T>]
  }
}

interface Kept<T> {
  readonly value: T
  readonly bytes: number
  isWanted: boolean
}

function bytesOf(text: string): number {
  return wideCharacter.test(text) ? 2 * text.length : text.length
}
