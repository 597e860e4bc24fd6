/** Ratio between the bounds of neighbouring bins: any value is off by at most 1% of itself when read back. */
const growth = 1.02
const logGrowth = Math.log(growth)

/** What a histogram can distinguish, milliseconds: less than the smallest counts as nothing, more than the largest as that. */
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
 *
 * As JSON it is a text: the counts of its bins one after the other, from bin 0 (too small to tell) on, and `+n` for n empty bins; read
 * only when it is needed, for a report reads many.
 */
export class Histogram {
  readonly #scale: Scale
  readonly #stored: string
  /** Counts by bin since it was made. */
  #added: Map<number, number> | undefined
  readonly #addsUp: boolean
  /** Counts by bin of one that adds up many. */
  #merged: Float64Array | undefined
  /** How many were too small to tell, since it was made; kept apart so that counting them is one addition. */
  #none = 0

  /** `addsUp`: many are to be merged into it, which is quick then, and takes more memory. */
  constructor(scale: Scale, stored = '', addsUp = false) {
    this.#scale = scale
    this.#stored = stored
    this.#addsUp = addsUp
  }

  add(ms: number): void {
    const { smallest, largestBin } = this.#scale
    if (ms > smallest) this.#count(Math.min(Math.ceil(Math.log(ms / smallest) / logGrowth), largestBin), 1)
    else this.#none++
  }

  merge(other: Histogram): void {
    if (other.#isEmpty()) return
    if (this.#addsUp) {
      this.#merged ??= this.#noCounts()
      other.#addTo(this.#merged)
    } else for (const [bin, count] of other.#bins()) this.#count(bin, count)
  }

  get count(): number {
    let sum = 0
    for (const [, count] of this.#bins()) sum += count
    return sum
  }

  /** How many values are at most `ms`, as far as 1% can tell. */
  countUpTo(ms: number): number {
    const { smallest } = this.#scale
    const last = ms <= smallest ? 0 : Math.ceil(Math.log(ms / smallest) / logGrowth)
    return this.#bins().reduce((sum, [bin, count]) => (bin <= last ? sum + count : sum), 0)
  }

  /** The value below or at which `share` (0 to 1) of all values lie, within 1%; undefined where there are none. */
  quantile(share: number): number | undefined {
    const bins = this.#bins()
    let left = Math.max(1, Math.ceil(share * bins.reduce((sum, [, count]) => sum + count, 0)))
    for (const [bin, count] of bins) {
      left -= count
      if (left <= 0) return bin === 0 ? 0 : (2 * this.#scale.smallest * growth ** bin) / (growth + 1)
    }
    return undefined
  }

  toJSON(): string {
    return this.#stored !== '' && this.#none === 0 && !this.#added && !this.#merged ? this.#stored : textOf(this.#bins())
  }

  #count(bin: number, count: number): void {
    this.#added ??= new Map()
    this.#added.set(bin, (this.#added.get(bin) ?? 0) + count)
  }

  #isEmpty(): boolean {
    return this.#stored === '' && this.#none === 0 && !this.#added && !this.#merged
  }

  #noCounts(): Float64Array {
    return new Float64Array(this.#scale.largestBin + 1)
  }

  /** Bins that hold anything, lowest first. */
  #bins(): Bin[] {
    if (!this.#merged) {
      const added: Bin[] = [...(this.#added ?? [])].sort(([a], [b]) => a - b)
      const all = bothBins(binsIn(this.#stored), added)
      return this.#none === 0 ? all : bothBins([[0, this.#none]], all)
    }
    const isMergedOnly = this.#stored === '' && this.#none === 0 && !this.#added
    const all = isMergedOnly ? this.#merged : this.#noCounts()
    if (all !== this.#merged) this.#addTo(all)
    const bins: Bin[] = []
    for (let bin = 0; bin < all.length; bin++) if (all[bin] !== 0) bins.push([bin, all[bin] as number])
    return bins
  }

  #addTo(all: Float64Array): void {
    if (this.#stored !== '') addStored(this.#stored, all)
    all[0] = (all[0] as number) + this.#none
    if (this.#added) for (const [bin, count] of this.#added) all[bin] = (all[bin] as number) + count
    const merged = this.#merged
    if (merged) for (let bin = 0; bin < merged.length; bin++) all[bin] = (all[bin] as number) + (merged[bin] as number)
  }
}

type Bin = [bin: number, count: number]

/** The texts of two histograms of one scale, as that of both. */
export function bothHistograms(one: string, other: string): string {
  return one === '' ? other : other === '' ? one : textOf(bothBins(binsIn(one), binsIn(other)))
}

/** Both in the order of their bins, as the result is. */
function bothBins(one: readonly Bin[], other: readonly Bin[]): Bin[] {
  if (other.length === 0) return [...one]
  if (one.length === 0) return [...other]
  const all: Bin[] = []
  let i = 0
  for (const [bin, count] of other) {
    for (let next = one[i]; next && next[0] < bin; next = one[++i]) all.push(next)
    const same = one[i]?.[0] === bin ? (one[i++] as Bin) : undefined
    all.push(same ? [bin, same[1] + count] : [bin, count])
  }
  for (; i < one.length; i++) all.push(one[i] as Bin)
  return all
}

function textOf(bins: readonly Bin[]): string {
  let [text, next] = ['', 0]
  for (const [bin, count] of bins) {
    if (bin > next) text += `${text && ','}+${bin - next}`
    text += `${text && ','}${count}`
    next = bin + 1
  }
  return text
}

function binsIn(text: string): Bin[] {
  const bins: Bin[] = []
  if (text !== '') eachBin(text, (bin, count) => void bins.push([bin, count]))
  return bins
}

function addStored(text: string, all: Float64Array): void {
  eachBin(text, (bin, count) => {
    all[bin] = (all[bin] as number) + count
  })
}

const [comma, plus, zero] = [',', '+', '0'].map((sign) => sign.charCodeAt(0)) as [number, number, number]

function eachBin(text: string, found: (bin: number, count: number) => void): void {
  let [bin, number, skips] = [0, 0, false]
  for (let i = 0; i <= text.length; i++) {
    const code = i < text.length ? text.charCodeAt(i) : comma
    if (code === comma) {
      if (!skips && number !== 0) found(bin, number)
      bin += skips ? number : 1
      number = 0
      skips = false
    } else if (code === plus) skips = true
    else number = number * 10 + code - zero
  }
}
