/** Ratio between the bounds of neighbouring bins: any value is off by at most 1% of itself when read back. */
const growth = 1.02
const logGrowth = Math.log(growth)

/** What a histogram can tell apart, milliseconds: less than the smallest counts as nothing, more than the largest as that. */
export interface Scale {
  readonly smallest: number
  readonly largestBin: number
}

/** How long something took: up to 24 hours. */
export const latencies: Scale = scale(0.01, 86_400_000)
/** How old something was: up to 20 years. */
export const ages: Scale = scale(100, 20 * 366 * 86_400_000)

function scale(smallest: number, largest: number): Scale {
  return { smallest, largestBin: Math.ceil(Math.log(largest / smallest) / logGrowth) }
}

/**
 * A bounded histogram of milliseconds, on a logarithmic scale. Merging two gives exactly the histogram of all their values together, and
 * a quantile of it is within 1%.
 */
export class Histogram {
  readonly #scale: Scale
  /** How many were too small to tell; kept apart so that counting them is one addition. */
  none = 0
  #bins: Map<number, number> | undefined
  /** Bins and counts by turns as they were stored, until they are needed. */
  #stored: readonly number[]

  constructor(scale: Scale, stored: readonly number[] = []) {
    this.#scale = scale
    this.#stored = stored
  }

  add(ms: number): void {
    const { smallest, largestBin } = this.#scale
    if (!(ms > smallest)) {
      this.none++
      return
    }
    addTo(this.#unpacked(), Math.min(Math.ceil(Math.log(ms / smallest) / logGrowth), largestBin), 1)
  }

  merge(other: Histogram): void {
    const bins = this.#unpacked()
    this.none += other.none
    if (other.#bins) for (const [bin, count] of other.#bins) addTo(bins, bin, count)
    const stored = other.#stored
    for (let i = 0; i + 1 < stored.length; i += 2) {
      const [bin, count] = [stored[i] as number, stored[i + 1] as number]
      if (bin === 0) this.none += count
      else addTo(bins, bin, count)
    }
  }

  get count(): number {
    let sum = 0
    for (const count of this.#unpacked().values()) sum += count
    return sum + this.none
  }

  /** The value below or at which `share` (0 to 1) of all values lie, within 1%; undefined where there are none. */
  quantile(share: number): number | undefined {
    const { count } = this
    if (count === 0) return undefined
    let left = Math.max(1, Math.ceil(share * count)) - this.none
    if (left <= 0) return 0
    for (const [bin, inBin] of this.#sorted()) {
      left -= inBin
      if (left <= 0) return (2 * this.#scale.smallest * growth ** bin) / (growth + 1)
    }
    return undefined
  }

  /** Bin and count by turns, beginning with bin 0 for `none`. */
  toJSON(): number[] {
    const sorted = this.#sorted()
    return [...(this.none > 0 ? [0, this.none] : []), ...sorted.flat()]
  }

  #sorted(): [bin: number, count: number][] {
    return [...this.#unpacked()].sort(([a], [b]) => a - b)
  }

  #unpacked(): Map<number, number> {
    if (this.#bins) return this.#bins
    this.#bins = new Map()
    const stored = this.#stored
    this.#stored = []
    for (let i = 0; i + 1 < stored.length; i += 2) {
      const [bin, count] = [stored[i] as number, stored[i + 1] as number]
      if (bin === 0) this.none += count
      else addTo(this.#bins, bin, count)
    }
    return this.#bins
  }
}

function addTo(bins: Map<number, number>, bin: number, count: number): void {
  bins.set(bin, (bins.get(bin) ?? 0) + count)
}
