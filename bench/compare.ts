import { measure } from 'mitata'

export interface Comparison {
  readonly name: string
  readonly ours: () => unknown
  readonly baseline: () => unknown
  /** Ours may take this many times the baseline. */
  readonly limit: number
}

export interface Ratio {
  readonly name: string
  readonly ourNs: number
  readonly baselineNs: number
  readonly ratio: number
  readonly limit: number
}

const rounds = 7

/** Times both by turns, so that a machine's moods meet both alike; each keeps the least of its medians. */
export async function compare({ name, ours, baseline, limit }: Comparison): Promise<Ratio> {
  let [ourNs, baselineNs] = [Number.POSITIVE_INFINITY, Number.POSITIVE_INFINITY]
  for (let round = 0; round < rounds; round++) {
    baselineNs = Math.min(baselineNs, await medianNs(baseline))
    ourNs = Math.min(ourNs, await medianNs(ours))
  }
  return { name, ourNs, baselineNs, ratio: ourNs / baselineNs, limit }
}

async function medianNs(run: () => unknown): Promise<number> {
  const { p50 } = await measure(run, { min_cpu_time: 200e6, inner_gc: false })
  return p50
}
