import { setImmediate as nextTurn } from 'node:timers/promises'
import { type Clock, loadEverything } from 'stashen'

/** A message under way between two parties on one fast clock: time stands still while any is. */
export interface Flight {
  readonly id: string
  /** It has arrived, and the receiver now waits for the clock. */
  park(): void
  /** It is under way again. */
  travel(): void
  /** It is over. */
  end(): void
}

interface Due {
  readonly at: number
  readonly run: () => void
  cancelled: boolean
}

/**
 * A clock of discrete events. It jumps to the next due moment as soon as nothing is under way and nothing is left to do, so that
 * a simulated day takes as long as its work and every measured time is a simulated one.
 */
export class FastClock implements Clock {
  #now: number
  #due: Due[] = []
  readonly #flights = new Map<string, Flight & { travelling: boolean }>()
  #travelling = 0
  #flightsBegun = 0
  #errands = 0
  readonly #leaving: (() => void)[] = []
  #landed: (() => void) | undefined

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

  /** One after the other, in the order of asking: messages of the same moment then arrive in the same order on every machine. */
  beginFlight(): Promise<Flight> {
    return new Promise((resolve) => {
      const leave = () => resolve(this.#newFlight())
      if (this.#travelling > 0) this.#leaving.push(leave)
      else leave()
    })
  }

  /** Time stands still until it is done: something that takes no time in this world, such as a store over a network. */
  async errand<T>(work: Promise<T>): Promise<T> {
    this.#errands++
    try {
      return await work
    } finally {
      this.#errands--
      if (!this.#isUnderWay) this.#landed?.()
    }
  }

  get #isUnderWay(): boolean {
    return this.#travelling > 0 || this.#errands > 0
  }

  /** The flight that a message says it belongs to, unless it is over. */
  flight(id: string | undefined): Flight | undefined {
    return id === undefined ? undefined : this.#flights.get(id)
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
      if (this.#isUnderWay) {
        await new Promise<void>((resolve) => {
          this.#landed = resolve
        })
      }
      await nextTurn()
    } while (this.#isUnderWay)
  }

  #newFlight(): Flight {
    const id = String(++this.#flightsBegun)
    const flight = {
      id,
      travelling: false,
      park: () => this.#setTravelling(flight, false),
      travel: () => this.#setTravelling(flight, this.#flights.has(id)),
      end: () => {
        this.#setTravelling(flight, false)
        this.#flights.delete(id)
      },
    }
    this.#flights.set(id, flight)
    flight.travel()
    return flight
  }

  #setTravelling(flight: { travelling: boolean }, travelling: boolean): void {
    if (flight.travelling === travelling) return
    flight.travelling = travelling
    this.#travelling += travelling ? 1 : -1
    if (this.#travelling > 0) return
    const leave = this.#leaving.shift()
    if (leave) leave()
    else if (!this.#isUnderWay) this.#landed?.()
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
