/** Asks once for all who ask for the same in one turn of the event loop. */
export class SameTurn<T> {
  readonly #ask: (key: string) => Promise<T>
  readonly #asked = new Map<string, Promise<T>>()

  constructor(ask: (key: string) => Promise<T>) {
    this.#ask = ask
  }

  get(key: string): Promise<T> {
    const asked = this.#asked.get(key)
    if (asked) return asked
    if (this.#asked.size === 0) setImmediate(() => this.#asked.clear())
    const got = this.#ask(key)
    this.#asked.set(key, got)
    return got
  }
}
