/** How many entries may be remembered before those are forgotten that nobody needs any more. */
const tidyEvery = 10_000

/** Until when copies may be given, by the key. */
export class NearLifetimes {
  readonly #forMs: number
  readonly #until = new Map<string, number>()
  #added = 0

  constructor(forMs: number) {
    this.#forMs = forMs
  }

  begin(key: string, now: number): void {
    this.#until.delete(key)
    this.#until.set(key, now + this.#forMs)
    if (++this.#added % tidyEvery === 0) this.#tidy(now)
  }

  holds(key: string, now: number): boolean {
    return now < (this.#until.get(key) ?? 0)
  }

  /** Whether there is a copy that was not ended but has run out. */
  hasRunOut(key: string, now: number): boolean {
    const until = this.#until.get(key)
    return until !== undefined && until <= now
  }

  end(key: string): void {
    this.#until.delete(key)
  }

  clear(): void {
    this.#until.clear()
  }

  /** In the order in which they end. */
  #tidy(now: number): void {
    for (const [key, until] of this.#until) {
      if (now < until) return
      this.#until.delete(key)
    }
  }
}
