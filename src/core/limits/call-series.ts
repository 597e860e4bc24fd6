/** Calls counted in a whole hour that begins at `at`, milliseconds since 1970-01-01T00:00Z. */
export interface HourOfCalls {
  readonly at: number
  readonly calls: number
}

/** Calls expected in a time; `shape`: how those of parts of it compare with each other. */
export interface Expected {
  readonly likely: number
  readonly low: number | null
  readonly high: number | null
  readonly shape: (from: number, to: number) => number
}

const hourMs = 3_600_000

/** Calls hour by hour without gaps, that can be asked of any stretch of time. */
export class CallSeries {
  /** Begin of the first hour and end of the last. */
  readonly from: number
  readonly until: number
  readonly #sums: Float64Array

  /** `hours`: whole hours in the order of time, without gaps. */
  constructor(hours: readonly HourOfCalls[]) {
    this.from = hours[0]?.at ?? 0
    this.until = this.from + hours.length * hourMs
    this.#sums = new Float64Array(hours.length + 1)
    for (const [i, { calls }] of hours.entries()) this.#sums[i + 1] = (this.#sums[i] as number) + calls
  }

  get lengthMs(): number {
    return this.until - this.from
  }

  /** Calls from `from` to `to`, as far as they are known; parts of an hour have their share of it. */
  between(from: number, to: number): number {
    return Math.max(0, this.#before(to) - this.#before(from))
  }

  #before(at: number): number {
    const place = Math.min(this.#sums.length - 1, Math.max(0, (at - this.from) / hourMs))
    const whole = Math.floor(place)
    const sum = this.#sums[whole] as number
    return whole === place ? sum : sum + (place - whole) * ((this.#sums[whole + 1] as number) - sum)
  }
}

/** A stretch of time cut at every hour. */
export function byHour(from: number, to: number): [from: number, to: number][] {
  const parts: [number, number][] = []
  for (let at = from; at < to; ) {
    const next = Math.min(to, Math.floor(at / hourMs) * hourMs + hourMs)
    parts.push([at, next])
    at = next
  }
  return parts
}

/** The sum of what `shape` says of the hours of a time. */
export function inAll(shape: (from: number, to: number) => number, from: number, to: number): number {
  return byHour(from, to).reduce((sum, [begin, end]) => sum + shape(begin, end), 0)
}
