import { setImmediate as nextTurn } from 'node:timers/promises'
import { type Clock, loadEverything } from 'stashen'

interface Due {
  readonly at: number
  readonly run: () => void
  cancelled: boolean
}

/**
 * A clock of discrete events. It jumps to the next due moment as soon as nothing holds it and nothing is left to do, so that
 * a simulated day takes as long as its work and every measured time is a simulated one.
 */
export class FastClock implements Clock {
  #now: number
  #due: Due[] = []
  #holds = 0
  #released: (() => void) | undefined

  constructor(start: number) {
    this.#now = start
  }

  now(): number {
    return this.#now
  }

  ticks(): number {
    return this.#now
  }

  later(afterMs: number, run: () => void): () => void {
    const due: Due = { at: this.#now + Math.max(0, Math.ceil(afterMs)), run, cancelled: false }
    this.#due.splice(this.#placeFor(due.at), 0, due)
    return () => {
      due.cancelled = true
    }
  }

  sleep(ms: number): Promise<void> {
    return new Promise((resolve) => this.later(ms, resolve))
  }

  /** Time stands still until the function it returns is called. */
  hold(): () => void {
    this.#holds++
    return () => {
      this.#holds--
      if (this.#holds === 0) this.#released?.()
    }
  }

  /** Time stands still until it is done: something that takes no time in this world, such as a store over a network. */
  async errand<T>(work: Promise<T>): Promise<T> {
    const release = this.hold()
    try {
      return await work
    } finally {
      release()
    }
  }

  /** Lets time pass until `work` is done, and returns what it gives. */
  async run<T>(work: Promise<T>): Promise<T> {
    let done = false
    const settle = () => {
      done = true
    }
    work.then(settle, settle)
    await loadEverything() // while files are read, time would run on
    for (;;) {
      await this.#quiet()
      if (done) return work
      const next = this.#due.shift()
      if (!next) throw new Error('the fast clock stands still: work is left, nothing is under way and nothing is due')
      if (next.cancelled) continue
      this.#now = Math.max(this.#now, next.at)
      next.run()
    }
  }

  async #quiet(): Promise<void> {
    do {
      if (this.#holds > 0) {
        await new Promise<void>((resolve) => {
          this.#released = resolve
        })
      }
      await nextTurn()
    } while (this.#holds > 0)
  }

  /** Behind everything that is due at the same moment. */
  #placeFor(at: number): number {
    let [low, high] = [0, this.#due.length]
    while (low < high) {
      const middle = (low + high) >> 1
      if ((this.#due[middle] as Due).at <= at) low = middle + 1
      else high = middle
    }
    return low
  }
}
