import { RetryBudget } from './retry-budget.js'
import { type Errand, type Landed, UpstreamAttempt, type UpstreamCallsParts } from './upstream-attempt.js'

/** Calls upstream: through the gate, within its time, again where that may help; counts each call, and has answers kept. */
export class UpstreamCalls {
  readonly #parts: UpstreamCallsParts
  readonly #budget = new RetryBudget()

  constructor(parts: UpstreamCallsParts) {
    this.#parts = parts
  }

  /** Is back as soon as an answer begins that is not asked for again; what may be stored of it is stored once it is whole. */
  async make<T>(errand: Errand<T>): Promise<Landed<T>> {
    const { endpoint } = errand.ask
    this.#budget.called(endpoint.provider, endpoint.retries.share)
    let before: Landed<T> | undefined
    for (let attempt = 1; ; attempt++) {
      const { landed, pauseMs } = await new UpstreamAttempt(this.#parts, errand, attempt, this.#budget).run()
      if (before && landed.fetched.result === 'withheld') return before
      if (pauseMs === undefined) return landed
      before = landed
      const { provider, name } = endpoint
      this.#parts.events.tell('retry', { provider, endpoint: name, attempt: attempt + 1, afterMs: pauseMs })
      await this.#pause(pauseMs, errand.ending.signal)
      if (errand.ending.signal.aborted) return landed
    }
  }

  #pause(ms: number, signal: AbortSignal): Promise<void> {
    return new Promise((resolve) => {
      const cancel = this.#parts.clock.later(ms, () => over(), true)
      const over = () => {
        cancel()
        signal.removeEventListener('abort', over)
        resolve()
      }
      signal.addEventListener('abort', over, { once: true })
    })
  }
}
