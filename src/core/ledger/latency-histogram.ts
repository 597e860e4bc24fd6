/** Ratio between the bounds of neighbouring bins: any value is off by at most 1% of itself when read back. */
const growth = 1.02
const logGrowth = Math.log(growth)
/** Milliseconds below which a latency counts as none at all. */
const smallest = 0.01
/** The bin of 24 hours; anything longer counts as that. Bounds the histogram to this many bins. */
const largestBin = Math.ceil(Math.log(86_400_000 / smallest) / logGrowth)

/**
 * A bounded histogram of latencies in milliseconds, on a logarithmic scale. Merging two gives exactly the histogram of all
 * their values together.
 */
export class LatencyHistogram {
  /** How many took no measurable time; kept apart so that counting them is one addition. */
  none = 0
  readonly #bins = new Map<number, number>()

  add(ms: number): void {
    if (!(ms > smallest)) {
      this.none++
      return
    }
    this.#addToBin(Math.min(Math.ceil(Math.log(ms / smallest) / logGrowth), largestBin), 1)
  }

  merge(other: LatencyHistogram): void {
    this.none += other.none
    for (const [bin, count] of other.#bins) this.#addToBin(bin, count)
  }

  get count(): number {
    let sum = this.none
    for (const count of this.#bins.values()) sum += count
    return sum
  }

  /** The value below or at which `share` (0 to 1) of all values lie, within 1%; undefined where there are none. */
  quantile(share: number): number | undefined {
    const count = this.count
    if (count === 0) return undefined
    let left = Math.max(1, Math.ceil(share * count)) - this.none
    if (left <= 0) return 0
    for (const [bin, inBin] of [...this.#bins].sort(([a], [b]) => a - b)) {
      left -= inBin
      if (left <= 0) return (2 * smallest * growth ** bin) / (growth + 1)
    }
    return undefined
  }

  /** Bin and count by turns, beginning with bin 0 for `none`. */
  toJSON(): number[] {
    const pairs: number[] = this.none > 0 ? [0, this.none] : []
    for (const [bin, count] of [...this.#bins].sort(([a], [b]) => a - b)) pairs.push(bin, count)
    return pairs
  }

  static from(pairs: readonly number[]): LatencyHistogram {
    const histogram = new LatencyHistogram()
    for (let i = 0; i + 1 < pairs.length; i += 2) {
      const [bin, count] = [pairs[i] as number, pairs[i + 1] as number]
      if (bin === 0) histogram.none += count
      else histogram.#addToBin(bin, count)
    }
    return histogram
  }

  #addToBin(bin: number, count: number): void {
    this.#bins.set(bin, (this.#bins.get(bin) ?? 0) + count)
  }
}
