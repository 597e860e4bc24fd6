/** Says a trouble once when it begins; only after it has ended is the next one said. */
export class OncePerEpisode {
  #inTrouble = false
  readonly #say: (message: string) => void

  constructor(say: (message: string) => void) {
    this.#say = say
  }

  trouble(what: string, cause: unknown): void {
    if (this.#inTrouble) return
    this.#inTrouble = true
    this.#say(`${what}: ${cause instanceof Error ? cause.message : String(cause)}`)
  }

  fine(): void {
    this.#inTrouble = false
  }
}
