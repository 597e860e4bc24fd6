import type { Clock } from '../../core/ports/clock.js'

/** Notices when something is waited for too long; waiting again and again costs no timer each time. */
export class IdleTimer {
  readonly #clock: Pick<Clock, 'later' | 'ticks'>
  readonly #idleMs: number
  readonly #late: () => void
  /** Since when it is waited for, in ticks; undefined while nothing is. */
  #since: number | undefined
  #cancel: (() => void) | undefined

  /** `late` is called once, when something was waited for as long as `idleMs`. */
  constructor(clock: Pick<Clock, 'later' | 'ticks'>, idleMs: number, late: () => void) {
    this.#clock = clock
    this.#idleMs = idleMs
    this.#late = late
  }

  waits(): void {
    this.#since = this.#clock.ticks()
    this.#cancel ??= this.#look(this.#idleMs)
  }

  arrived(): void {
    this.#since = undefined
  }

  /** Nothing is waited for any more. */
  stop(): void {
    this.#since = undefined
    this.#cancel?.()
    this.#cancel = undefined
  }

  #look(afterMs: number): () => void {
    return this.#clock.later(afterMs, () => {
      this.#cancel = undefined
      if (this.#since === undefined) return
      const left = this.#idleMs - (this.#clock.ticks() - this.#since)
      if (left <= 0) this.#late()
      else this.#cancel = this.#look(left)
    })
  }
}
