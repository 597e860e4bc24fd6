export interface Comparison {
  readonly name: string
  readonly ours: () => unknown
  readonly baseline: () => unknown
  /** Ours may take this many times the baseline. */
  readonly limit: number
  /** How many calls one call of both makes. Default 1. */
  readonly each?: number
  /** How long a round of each lasts, milliseconds, and how many there are. Default: 8 and 101. */
  readonly roundMs?: number
  readonly rounds?: number
}

export interface Ratio {
  readonly name: string
  readonly ourNs: number
  readonly baselineNs: number
  readonly ratio: number
  readonly limit: number
}

const warmUpMs = 150

/**
 * Times both by turns, in rounds so short that a machine's moods meet both alike, and takes the median of the rounds' ratios. Both
 * are awaited, call by call.
 */
export async function compare({ name, ours, baseline, limit, each = 1, roundMs = 8, rounds = 101 }: Comparison): Promise<Ratio> {
  const calls = Math.ceil((roundMs * 1e6) / (await warmedUp(baseline)))
  await warmedUp(ours)
  const taken: { ourNs: number; baselineNs: number; ratio: number }[] = []
  for (let round = 0; round < rounds; round++) {
    const baselineNs = await nsOfEach(baseline, calls)
    const ourNs = await nsOfEach(ours, calls)
    taken.push({ ourNs, baselineNs, ratio: ourNs / baselineNs })
  }
  const { ourNs, baselineNs, ratio } = medianBy(taken, (one) => one.ratio)
  return { name, limit, ratio, ourNs: ourNs / each, baselineNs: baselineNs / each }
}

export function medianBy<T>(all: readonly T[], value: (one: T) => number): T {
  return [...all].sort((a, b) => value(a) - value(b))[all.length >> 1] as T
}

async function nsOfEach(run: () => unknown, calls: number): Promise<number> {
  const began = performance.now()
  for (let call = 0; call < calls; call++) await run()
  return ((performance.now() - began) * 1e6) / calls
}

/** Calls it until it is as fast as it gets. Returns what one call takes then, nanoseconds. */
async function warmedUp(run: () => unknown): Promise<number> {
  const end = performance.now() + warmUpMs
  let calls = 1
  let ns = await nsOfEach(run, calls)
  while (performance.now() < end) {
    calls = Math.min(calls * 2, Math.ceil(20e6 / ns))
    ns = await nsOfEach(run, calls)
  }
  return ns
}
