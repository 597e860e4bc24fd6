import type { Clock } from '../../core/ports/clock.js'
import type { Maybe } from '../../core/ports/maybe.js'

/** How often the store is asked for its time, milliseconds; also as soon as this process's clock is seen to be set, or to have stood still. */
const askEveryMs = 60_000
const clockSetMs = 500
const answersAsked = 3

/** How far ticks of two machines may come apart, of the time that passed. */
const drift = 1e-4

/** What was known at a moment: the store's time, this process's, and the ticks. */
interface Known {
  readonly store: number
  readonly own: number
  readonly ticks: number
  /** How far the store's may be from that, milliseconds. */
  readonly unsureMs: number
}

/**
 * The time that limits, quotas, budgets and hold-offs go by: that of the store's server where it has one, so that machines whose clocks differ agree, to half the
 * time that the server takes to answer; else this process's. Between two answers of the server it goes on by ticks, whatever this process's clock is set to.
 */
export class StoreTime {
  readonly #clock: Clock
  readonly #ask: (() => Maybe<number | undefined>) | undefined
  #known: Known | undefined
  #asking: Promise<void> | undefined

  /** `ask` gives the time of the store; left out where this process's is meant. */
  constructor(clock: Clock, ask: (() => Maybe<number | undefined>) | undefined) {
    this.#clock = clock
    this.#ask = ask
  }

  /** Milliseconds since 1970-01-01T00:00Z. */
  now(): number {
    if (this.#ask === undefined) return this.#clock.now()
    const ticks = this.#clock.ticks()
    const own = this.#clock.now()
    const known = this.#known
    if (!known) {
      void this.measure()
      return own
    }
    const passed = ticks - known.ticks
    if (passed >= askEveryMs || Math.abs(own - known.own - passed) >= clockSetMs) void this.measure()
    return Math.round(known.store + passed)
  }

  /**
   * How far the present may be from what `now` says, milliseconds. What ended counts as ended so much later, and what begins as begun so much earlier, so that no window
   * holds too many calls by any clock.
   */
  get unsureMs(): number {
    const known = this.#known
    return known === undefined ? 0 : Math.ceil(known.unsureMs + (this.#clock.ticks() - known.ticks) * drift) + 1
  }

  /** A moment of the store's time by this process's clock, for whoever is told of it. */
  ofOwn(at: number): number {
    return this.#ask === undefined ? at : at - this.#ahead()
  }

  /** A moment of this process's clock by the store's time. */
  ofStore(at: number): number {
    return this.#ask === undefined ? at : at + this.#ahead()
  }

  #ahead(): number {
    return this.now() - this.#clock.now()
  }

  /** Asks the store; where it does not answer, all goes on by what was known. Never rejects. */
  measure(): Promise<void> {
    this.#asking ??= this.#measure().finally(() => {
      this.#asking = undefined
    })
    return this.#asking
  }

  /** Of several answers the quickest tells best. */
  async #measure(): Promise<void> {
    let quickestMs = Number.POSITIVE_INFINITY
    for (let i = 0; i < answersAsked; i++) {
      const began = this.#clock.ticks()
      const store = await this.#asked()
      const [ticks, own] = [this.#clock.ticks(), this.#clock.now()]
      if (store === undefined) {
        const { store: last, ticks: lastTicks, unsureMs } = this.#known ?? { store: own, ticks, unsureMs: 0 }
        const passed = ticks - lastTicks
        if (this.#known) this.#known = { store: last + passed, own, ticks, unsureMs: unsureMs + passed * drift } // not at once again
        return
      }
      if (ticks - began >= quickestMs) continue
      quickestMs = ticks - began
      this.#known = { store: store + quickestMs / 2, own, ticks, unsureMs: quickestMs / 2 }
    }
  }

  async #asked(): Promise<number | undefined> {
    try {
      const time = await this.#ask?.()
      return Number.isFinite(time) ? time : undefined
    } catch {
      return undefined
    }
  }
}
