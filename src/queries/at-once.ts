import type { Maybe } from '../core/ports/maybe.js'

/** Works that go on at once, so many at the most. */
export class AtOnce {
  readonly #most: number
  readonly #under = new Set<Promise<unknown>>()
  #failed: { readonly error: unknown } | undefined

  constructor(most: number) {
    this.#most = most
  }

  /** Takes one more, once there is room for it. Rejects with what went wrong with one before. */
  async take(work: Maybe<unknown>): Promise<void> {
    if (work instanceof Promise) {
      const done: Promise<unknown> = work
        .catch((error) => {
          this.#failed ??= { error }
        })
        .finally(() => this.#under.delete(done))
      this.#under.add(done)
      if (this.#under.size >= this.#most) await Promise.race(this.#under)
    }
    if (this.#failed) throw this.#failed.error
  }

  /** Waits for all of them. Rejects with what went wrong with one. */
  async done(): Promise<void> {
    await Promise.all(this.#under)
    if (this.#failed) throw this.#failed.error
  }
}
