/** Of Node, where what comes of one look at the network is done before it comes; tests may replace it by one that does not. */
const afterTurn = globalThis.setImmediate

/** Whether it comes. */
let comes = false
afterTurn(() => {
  comes = true
}).unref()

/** Written together at the most, so that nothing else waits long. */
const mostAtOnce = 64

interface Waiting<W, T> {
  readonly what: W
  readonly resolve: (done: T) => void
  readonly reject: (error: unknown) => void
}

/** What is to be written in one turn of the event loop, written together. */
export class WriteBatch<W, T> {
  readonly #writeAll: (all: readonly W[]) => T[]
  #waiting: Waiting<W, T>[] = []

  /** `writeAll` writes all of it, or throws and writes nothing. */
  constructor(writeAll: (all: readonly W[]) => T[]) {
    this.#writeAll = writeAll
  }

  /** Written at the end of this turn; at once where no end of a turn comes. */
  add(what: W): T | Promise<T> {
    if (!comes) return this.#writeAll([what])[0] as T
    return new Promise((resolve, reject) => {
      this.#waiting.push({ what, resolve, reject })
      if (this.#waiting.length === 1) afterTurn(() => this.flush())
      if (this.#waiting.length === mostAtOnce) this.flush()
    })
  }

  /** Whether any of what waits is meant. */
  some(isMeant: (what: W) => boolean): boolean {
    return this.#waiting.some(({ what }) => isMeant(what))
  }

  /** Writes what waits now. Never throws: those who wait for it know. */
  flush(): void {
    const waiting = this.#waiting
    if (waiting.length === 0) return
    this.#waiting = []
    if (waiting.length > 1 && this.#written(waiting)) return
    for (const one of waiting) {
      try {
        one.resolve(this.#writeAll([one.what])[0] as T)
      } catch (error) {
        one.reject(error) // of one alone: the others are written
      }
    }
  }

  #written(waiting: readonly Waiting<W, T>[]): boolean {
    try {
      const done = this.#writeAll(waiting.map(({ what }) => what))
      for (const [i, { resolve }] of waiting.entries()) resolve(done[i] as T)
      return true
    } catch {
      return false
    }
  }
}
