/** Lets so large a share of recent calls be repetitions, and not more: so that repetitions never are what keeps an upstream down. */
export class RetryBudget {
  readonly #left = new Map<string, number>()

  /** A first call: earns its share of a repetition. */
  called(provider: string, share: number): void {
    this.#left.set(provider, Math.min(mostSaved, (this.#left.get(provider) ?? atFirst) + share))
  }

  /** Whether one more may be repeated; if so, it is spent. */
  spend(provider: string): boolean {
    const left = this.#left.get(provider) ?? atFirst
    if (left < 1 - 1e-9) return false
    this.#left.set(provider, left - 1)
    return true
  }
}

/** Repetitions allowed before any call was counted, and saved up at the most. */
const atFirst = 3
const mostSaved = 20
