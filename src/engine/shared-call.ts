/**
 * One upstream call that any number of callers wait for. A caller whose signal aborts stops waiting, the others go on; when the
 * last one is gone the call itself is aborted.
 */
export class SharedCall<T> {
  /** Settles when the call does; never rejects. */
  readonly ended: Promise<void>
  readonly #landing: Promise<T>
  readonly #ending = new AbortController()
  #waiting = 0
  #abandoned = false

  /** `begin` gets what ends the call: aborted by this when nobody waits any more, or by `begin` itself. */
  constructor(begin: (ending: AbortController) => Promise<T>) {
    this.#landing = begin(this.#ending)
    this.ended = this.#landing.then(
      () => {},
      () => {},
    )
  }

  /** Whether the last caller has gone, so that the call is being given up. */
  get abandoned(): boolean {
    return this.#abandoned
  }

  /** Waits for the call's end; rejects with the signal's reason as soon as that aborts. */
  join(signal: AbortSignal | undefined): Promise<T> {
    this.#waiting++
    if (!signal) return this.#landing
    return new Promise((resolve, reject) => {
      const leave = () => {
        this.#waiting--
        if (this.#waiting === 0) {
          this.#abandoned = true
          this.#ending.abort(signal.reason)
        }
        reject(signal.reason)
      }
      if (signal.aborted) return leave()
      signal.addEventListener('abort', leave, { once: true })
      this.#landing.then(resolve, reject).finally(() => signal.removeEventListener('abort', leave))
    })
  }
}
