export interface Comparison {
  readonly name: string
  readonly ours: () => unknown
  readonly baseline: () => unknown
  /** Ours may take this many times the baseline. */
  readonly limit: number
  /** How many calls one call of both makes. Default 1. */
  readonly each?: number
}

export interface Ratio {
  readonly name: string
  readonly ourNs: number
  readonly baselineNs: number
  readonly ratio: number
  readonly limit: number
}

const rounds = 101
const roundMs = 8

/**
 * Times both by turns, in rounds so short that a machine's moods meet both alike, and takes the median of the rounds' ratios. Both
 * are awaited, call by call.
 */
export async function compare({ name, ours, baseline, limit, each = 1 }: Comparison): Promise<Ratio> {
  const calls = Math.ceil((roundMs * 1e6) / (await nsOfEach(baseline, 2_000)))
  await nsOfEach(ours, calls)
  const taken: { ourNs: number; baselineNs: number; ratio: number }[] = []
  for (let round = 0; round < rounds; round++) {
    const baselineNs = await nsOfEach(baseline, calls)
    const ourNs = await nsOfEach(ours, calls)
    taken.push({ ourNs, baselineNs, ratio: ourNs / baselineNs })
  }
  taken.sort((a, b) => a.ratio - b.ratio)
  const { ourNs, baselineNs, ratio } = taken[rounds >> 1] as (typeof taken)[number]
  return { name, limit, ratio, ourNs: ourNs / each, baselineNs: baselineNs / each }
}

async function nsOfEach(run: () => unknown, calls: number): Promise<number> {
  const began = performance.now()
  for (let call = 0; call < calls; call++) await run()
  return ((performance.now() - began) * 1e6) / calls
}
