import type { Clock } from '../../core/ports/clock.js'
import type { Landed } from './landed.js'
import type { RetryPolicy } from './retry-policy.js'
import { UpstreamAttempt } from './upstream-attempt.js'
import type { UpstreamJob, UpstreamParts } from './upstream-job.js'
import { pause } from './waiting.js'

/** Calls upstream: through the gate, within its time, again where that may help; records each call, and has answers stored. */
export class UpstreamCalls {
  readonly #parts: UpstreamParts
  readonly #retries: RetryPolicy
  readonly #clock: Clock

  constructor(parts: UpstreamParts) {
    this.#parts = parts
    this.#retries = parts.retries
    this.#clock = parts.clock
  }

  /** Is back as soon as an answer begins that is not asked for again; what may be stored of it is stored once it is complete. */
  async make<T>(job: UpstreamJob<T>): Promise<Landed<T>> {
    const { endpoint } = job.call
    this.#retries.called(endpoint.provider, endpoint.retries.share)
    let before: Landed<T> | undefined
    for (let attempt = 1; ; attempt++) {
      const { landed, pauseMs, discard } = await new UpstreamAttempt(this.#parts, job, attempt).run()
      if (before && landed.fetched.result === 'withheld') return before
      if (pauseMs === undefined) return landed
      const { provider, name } = endpoint
      this.#parts.events.tell('retry', { provider, endpoint: name, attempt: attempt + 1, afterMs: pauseMs })
      await pause(this.#clock, pauseMs, job.ending)
      if (job.ending.aborted) return landed
      before = discard() ? undefined : landed
    }
  }
}
