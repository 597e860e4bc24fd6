import type { Endpoint } from '../../core/endpoints/endpoint.js'
import { UpstreamTimeoutError } from '../../core/errors/call-errors.js'
import type { Clock } from '../../core/ports/clock.js'

/** Ends an upstream call that takes too long, until its head has arrived and in all. While only measuring, nothing is cut off. */
export class AttemptTimers {
  readonly #clock: Clock
  readonly #endpoint: Endpoint
  readonly #end: (reason: unknown) => void
  #cancelFirstByte = noop
  #cancelTotal = noop

  constructor(clock: Clock, endpoint: Endpoint, end: (reason: unknown) => void) {
    this.#clock = clock
    this.#endpoint = endpoint
    this.#end = end
  }

  start(): void {
    this.cancel()
    const { mode, timeouts } = this.#endpoint
    if (mode === 'measure') return
    const { firstByteMs, totalMs } = timeouts
    if (totalMs !== undefined) this.#cancelTotal = this.#late('total', totalMs)
    if (Number.isFinite(firstByteMs) && (totalMs === undefined || firstByteMs < totalMs))
      this.#cancelFirstByte = this.#late('firstByte', firstByteMs)
  }

  headArrived(): void {
    this.#cancelFirstByte()
  }

  cancel(): void {
    this.#cancelFirstByte()
    this.#cancelTotal()
  }

  #late(missing: 'firstByte' | 'total', ms: number): () => void {
    const { provider, name } = this.#endpoint
    return this.#clock.later(ms, () => this.#end(new UpstreamTimeoutError(provider, name, missing, ms)))
  }
}

function noop(): void {}
