import type { Endpoint } from '../../core/endpoints/endpoint.js'
import type { Clock } from '../../core/ports/clock.js'

/** How long calls that were given up are waited for, milliseconds. */
const lastWaitMs = 1_000

/** What is under way in a stash: waited for when it closes, and given up where that takes too long. */
export class RunningCalls {
  readonly #clock: Clock
  readonly #running = new Set<Promise<unknown>>()
  readonly #upstream = new Map<{ giveUp(reason: unknown): void }, Endpoint>()

  constructor(clock: Clock) {
    this.#clock = clock
  }

  /** Has something waited for. */
  track<T>(call: Promise<T>): Promise<T> {
    const over = () => void this.#running.delete(call)
    this.#running.add(call)
    call.then(over, over)
    return call
  }

  /** Notes an upstream call that can be given up; returns what to call when it is over. */
  begun(call: { giveUp(reason: unknown): void }, endpoint: Endpoint): () => void {
    this.#upstream.set(call, endpoint)
    return () => void this.#upstream.delete(call)
  }

  /** Waits until nothing is under way; gives up upstream calls that take longer than `limitMs`, for a reason. */
  async settled(limitMs: number, reason: (endpoint: Endpoint) => unknown): Promise<void> {
    let over = false
    await new Promise<void>((resolve) => {
      const giveUp = () => {
        cancel = this.#clock.later(lastWaitMs, resolve, true)
        for (const [call, endpoint] of this.#upstream) call.giveUp(reason(endpoint))
      }
      let cancel = this.#clock.later(limitMs, giveUp, true)
      void this.#allEnded(() => over).then(() => {
        cancel()
        resolve()
      })
    })
    over = true
  }

  async #allEnded(isOver: () => boolean): Promise<void> {
    while (this.#running.size > 0 && !isOver()) await Promise.allSettled(this.#running)
  }
}
