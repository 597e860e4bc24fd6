import { Cancellation } from '../cancellation.js'

/** What a shared call has once it can be answered: the rest may still be on its way. */
interface Landing {
  /** Settles when nothing of the call is left to do; never rejects. */
  readonly finished: Promise<unknown>
  /** Settles when no more of its answer is kept; never rejects. */
  readonly settled: Promise<unknown>
}

/**
 * One upstream call that any number of callers wait for. A caller whose signal aborts before it can be answered stops waiting, the
 * others go on; when the last one is gone the call itself is aborted.
 */
export class SharedCall<T extends Landing> {
  /** Settles when nothing of the call is left to do; never rejects. */
  readonly ended: Promise<void>
  readonly #landing: Promise<T>
  readonly #ending = new Cancellation()
  #waiting = 0
  #joined = 0
  /** Has it wait for its turn no longer among those in the background. */
  readonly hurry: () => void
  /** Set once its answer must not be stored any more: something newer is known. */
  superseded = false

  /** `begin` gets what ends the call: aborted by this when nobody waits any more, or by `begin` itself. */
  constructor(begin: (call: SharedCall<T>, ending: Cancellation) => Promise<T>, hurry: () => void) {
    this.hurry = hurry
    this.#landing = begin(this, this.#ending)
    this.ended = this.#landing.then(({ finished }) => finished).then(noop, noop)
  }

  /** Settles when no more of its answer is kept; never rejects. */
  get settled(): Promise<void> {
    return this.#landing.then(({ settled }) => settled).then(noop, noop)
  }

  /** What it comes to, for who does not wait for its answer. */
  get landing(): Promise<T> {
    return this.#landing
  }

  /** Whether the call is being given up. */
  get abandoned(): boolean {
    return this.#ending.aborted
  }

  /** Ends a call that nobody ever waited for. */
  dropIfUnasked(): void {
    if (this.#joined === 0) this.#ending.abort(new DOMException('nobody asked for this answer', 'AbortError'))
  }

  /** Gives the call up, whoever waits for it. */
  giveUp(reason: unknown): void {
    this.#ending.abort(reason)
  }

  /** Waits until the call can be answered; rejects with the signal's reason as soon as that aborts. */
  join(signal: AbortSignal | undefined): Promise<T> {
    this.#waiting++
    this.#joined++
    if (!signal) return this.#landing
    return new Promise((resolve, reject) => {
      const leave = () => {
        this.#waiting--
        if (this.#waiting === 0) this.#ending.abort(signal.reason)
        reject(signal.reason)
      }
      if (signal.aborted) return leave()
      signal.addEventListener('abort', leave, { once: true })
      this.#landing.then(resolve, reject).finally(() => signal.removeEventListener('abort', leave))
    })
  }
}

function noop(): void {}
