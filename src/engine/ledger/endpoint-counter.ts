import { bucketMs } from '../../core/ledger/ledger-row.js'
import type { Tally } from '../../core/ledger/tally.js'

/** The counts of one endpoint: hands out the tally of the present bucket. */
export class EndpointCounter {
  #tally: Tally | undefined
  #from = 0
  #until = 0

  /** `begin`: what the tally of a bucket is begun with. */
  constructor(readonly begin: (bucket: number) => Tally) {}

  /** The tally that a call at `now` is counted in. Do not keep it over an `await`. */
  at(now: number): Tally {
    return now < this.#until && now >= this.#from ? (this.#tally as Tally) : this.#next(now)
  }

  /** Ends the present tally: the next count begins another. */
  turn(): void {
    this.#until = 0
  }

  #next(now: number): Tally {
    this.#from = Math.floor(now / bucketMs) * bucketMs
    this.#until = this.#from + bucketMs
    this.#tally = this.begin(this.#from)
    return this.#tally
  }
}
