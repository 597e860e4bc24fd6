/** Who is there of those that have a database open, by locks that the browser gives back when a tab or worker is gone (W3C Web Locks API). */
export class Presence {
  readonly id = crypto.randomUUID()
  readonly #prefix: string
  #leave: (() => void) | undefined

  constructor(database: string) {
    this.#prefix = `${database} `
  }

  /** Whether there are such locks here: in a secure context, of a browser that has them. */
  static get isKnown(): boolean {
    return typeof navigator === 'object' && navigator.locks !== undefined
  }

  /** Resolves once others see it. */
  async come(): Promise<void> {
    if (this.#leave) return
    await new Promise<void>((here, failed) => {
      navigator.locks
        .request(this.#prefix + this.id, () => {
          here()
          return new Promise<void>((leave) => {
            this.#leave = leave
          })
        })
        .catch(failed)
    })
  }

  leave(): void {
    this.#leave?.()
    this.#leave = undefined
  }

  async isThere(id: string): Promise<boolean> {
    if (id === this.id) return this.#leave !== undefined
    return navigator.locks.request(this.#prefix + id, { ifAvailable: true }, (lock) => lock === null)
  }
}
