/** Says a trouble once when it begins; only after it has ended is the next one said. Of each thing that may have some, by itself. */
export class OncePerEpisode {
  readonly #inTrouble = new Set<unknown>()
  readonly #say: (message: string) => void

  constructor(say: (message: string) => void) {
    this.#say = say
  }

  /** `of`: what has it. */
  trouble(what: string, cause: unknown, of?: unknown): void {
    if (this.#inTrouble.has(of)) return
    this.#inTrouble.add(of)
    this.#say(`${what}: ${cause instanceof Error ? cause.message : String(cause)}`)
  }

  fine(of?: unknown): void {
    if (this.#inTrouble.size > 0) this.#inTrouble.delete(of)
  }
}
