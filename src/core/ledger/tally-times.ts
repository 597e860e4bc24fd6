import { ages, Histogram, latencies } from './histogram.js'
import type { TallyData } from './tally-data.js'

const scales = { ms: latencies, upMs: latencies, ageMs: ages, changedMs: ages, unchangedMs: ages }
type Name = keyof typeof scales
const names = Object.keys(scales) as Name[]

/** The histograms of a tally, by the names that they have as plain data. Each is made when it is needed: most rows of a report have few. */
export class TallyTimes {
  readonly #addsUp: boolean
  ms: Histogram | undefined = undefined
  upMs: Histogram | undefined = undefined
  ageMs: Histogram | undefined = undefined
  changedMs: Histogram | undefined = undefined
  unchangedMs: Histogram | undefined = undefined

  /** `addsUp`: many are to be merged into it. */
  constructor(addsUp: boolean) {
    this.#addsUp = addsUp
  }

  of(name: Name): Histogram {
    this[name] ??= new Histogram(scales[name], '', this.#addsUp)
    return this[name]
  }

  merge(other: TallyTimes): void {
    for (const name of names) {
      const its = other[name]
      if (its) this.of(name).merge(its)
    }
  }

  /** In place of what it holds, what `toJSON` made. */
  read(data: TallyData): void {
    for (const name of names) {
      const text = data[name]
      if (text) this[name] = new Histogram(scales[name], text)
    }
  }

  /** Only those that hold anything. */
  toJSON(): Pick<TallyData, Name> {
    const texts = names.map((name): [Name, string] => [name, this[name]?.toJSON() ?? ''])
    return Object.fromEntries(texts.filter(([, text]) => text !== ''))
  }
}
