import type { Clock } from '../../core/ports/clock.js'
import type { Maybe } from '../../core/ports/maybe.js'
import { lastTurn } from './last-turn.js'

/** Reported when trouble begins, and when it is over: once an episode. */
export interface TroubleListener {
  readonly trouble: (message: string, error: unknown) => void
  readonly recovered: () => void
}

/** After a failure the store is left alone for so long, twice as long after each further one, up to so long; milliseconds. */
const firstRestMs = 250
const longestRestMs = 10_000

/** A timer that is so much late was held up by the application, which is no fault of the store: it is waited for again, so often at the most. */
const heldUpFromMs = 20
const mostWaits = 3

/** What a store is used for, reading or writing: does the work in bounded time, and lets a store that failed rest for a while. */
export class StorePart {
  readonly #clock: Clock
  readonly #timeLimitMs: number
  readonly #what: string
  readonly #listener: TroubleListener
  #failures = 0
  #restUntil = 0
  #trouble: string | undefined

  /** `what`: what the trouble means for the user, e.g. `the store cannot be read, calls go upstream until it can`. */
  constructor(clock: Clock, timeLimitMs: number, what: string, listener: TroubleListener) {
    this.#clock = clock
    this.#timeLimitMs = timeLimitMs
    this.#what = what
    this.#listener = listener
  }

  /** What is wrong with it, if anything is. */
  get trouble(): string | undefined {
    return this.#trouble
  }

  get resting(): boolean {
    return this.#failures > 0 && this.#clock.ticks() < this.#restUntil
  }

  /** Has a store that rests be tried again at once. */
  tryAgain(): void {
    this.#restUntil = 0
  }

  /** Does the work; throws, or rejects with, what goes wrong with it, and at once while the store rests. */
  do<T>(work: () => Maybe<T>): Maybe<T> {
    if (this.resting) throw new Error(`${this.#what}: it is left alone for a moment`)
    let done: Maybe<T>
    try {
      done = work()
    } catch (error) {
      throw this.failed(error)
    }
    if (done instanceof Promise) return this.#inTime(done)
    if (this.#failures > 0) this.fine()
    return done
  }

  /** As `do`, with something else in place of what goes wrong. */
  attempt<T>(work: () => Maybe<T>, instead: T): Maybe<T> {
    try {
      const done = this.do(work)
      return done instanceof Promise ? done.catch(() => instead) : done
    } catch {
      return instead
    }
  }

  failed(error: unknown): unknown {
    this.#failures++
    this.#restUntil = this.#clock.ticks() + Math.min(longestRestMs, firstRestMs * 2 ** (this.#failures - 1))
    this.#trouble = `${this.#what}: ${error instanceof Error ? error.message : String(error)}`
    if (this.#failures === 1) this.#listener.trouble(this.#trouble, error)
    return error
  }

  fine(): void {
    if (this.#failures === 0) return
    this.#failures = 0
    this.#trouble = undefined
    this.#listener.recovered()
  }

  #inTime<T>(work: Promise<T>): Promise<T> {
    return new Promise((resolve, reject) => {
      let isOver = false
      let cancel = () => {}
      const wait = (times: number) => {
        const began = this.#clock.ticks()
        const late = async () => {
          const heldUpMs = this.#clock.ticks() - began - this.#timeLimitMs
          await lastTurn()
          if (isOver) return
          if (heldUpMs > heldUpFromMs && times < mostWaits) wait(times + 1)
          else reject(this.failed(new Error(`it gave no answer within ${this.#timeLimitMs} ms`)))
        }
        cancel = this.#clock.later(this.#timeLimitMs, () => void late(), true)
      }
      wait(1)
      const over = () => {
        isOver = true
        cancel()
      }
      work.then(
        (done) => {
          over()
          this.fine()
          resolve(done)
        },
        (error) => {
          over()
          reject(this.failed(error))
        },
      )
    })
  }
}
