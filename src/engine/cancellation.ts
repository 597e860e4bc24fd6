/** What ends a call: like an `AbortController`, of which it makes one where a signal is asked for, and costs little where none is. */
export class Cancellation {
  #reason: unknown
  #isAborted = false
  #listeners: Set<() => void> | undefined
  #controller: AbortController | undefined

  get aborted(): boolean {
    return this.#isAborted
  }

  get reason(): unknown {
    return this.#reason
  }

  /** Aborts with it. */
  get signal(): AbortSignal {
    if (!this.#controller) {
      this.#controller = new AbortController()
      if (this.#isAborted) this.#controller.abort(this.#reason)
    }
    return this.#controller.signal
  }

  /** Only the first time counts. */
  abort(reason: unknown): void {
    if (this.#isAborted) return
    this.#isAborted = true
    this.#reason = reason
    const listeners = this.#listeners ?? []
    this.#listeners = undefined
    for (const listener of listeners) listener()
    this.#controller?.abort(reason)
  }

  /** Calls `listener` once it aborts, unless the returned function is called before. */
  onAbort(listener: () => void): () => void {
    const own = () => listener()
    this.#listeners ??= new Set()
    const listeners = this.#listeners.add(own)
    return () => void listeners.delete(own)
  }
}
