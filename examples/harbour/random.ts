import { uniformFloat64 } from 'pure-rand/distribution/uniformFloat64'
import { uniformInt } from 'pure-rand/distribution/uniformInt'
import { xoroshiro128plus } from 'pure-rand/generator/xoroshiro128plus'

/** Repeatable chance: the same seed and name give the same draws. */
export class Chance {
  readonly #source

  constructor(seed: number, name: string) {
    const salt = [...name].reduce((sum, letter) => (Math.imul(sum, 31) + letter.charCodeAt(0)) | 0, 0)
    this.#source = xoroshiro128plus(seed ^ salt)
  }

  /** From 0 to 1. */
  fraction(): number {
    return uniformFloat64(this.#source)
  }

  /** A whole number from `low` to `high`, both possible. */
  whole(low: number, high: number): number {
    return uniformInt(this.#source, low, high)
  }

  one<T>(things: readonly T[]): T {
    return things[this.whole(0, things.length - 1)] as T
  }

  /** A waiting time in milliseconds: mostly near `typical`, now and then several times that. */
  latency(typical: number): number {
    return Math.round(typical * (0.7 + 0.3 * -Math.log(1 - this.fraction())))
  }
}
