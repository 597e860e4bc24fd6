import { setImmediate as turn } from 'node:timers/promises'
import type { Clock } from 'stashen'

/** A clock that stands still until it is put forward, however long real servers take meanwhile. */
export class HandClock implements Clock {
  #now = Date.now()
  readonly #timers = new Set<{ readonly at: number; readonly run: () => void }>()

  now = () => this.#now
  ticks = () => this.#now

  later(afterMs: number, run: () => void): () => void {
    const timer = { at: this.#now + afterMs, run }
    this.#timers.add(timer)
    return () => void this.#timers.delete(timer)
  }

  /** Lets time pass; timers fire in their order. */
  async advance(ms: number): Promise<void> {
    const end = this.#now + ms
    for (;;) {
      await turn()
      const [next] = [...this.#timers].filter(({ at }) => at <= end).sort((a, b) => a.at - b.at)
      if (!next) break
      this.#timers.delete(next)
      this.#now = Math.max(this.#now, next.at)
      next.run()
    }
    this.#now = end
  }
}
