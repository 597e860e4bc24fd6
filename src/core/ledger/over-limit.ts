import { quotaPeriod } from '../limits/quota.js'
import { allSteps, filtered, type Steps } from '../steps.js'
import type { FactsInForce } from './facts-in-force.js'
import { groupsOf, inTimeOrder } from './group-by.js'
import { bucketMs, type Grain, grains, type TallyRow } from './ledger-row.js'
import { callsWithout } from './without.js'

/** Windows up to this length are settled in the rows of a grain, milliseconds: they were when these were put together of finer ones. */
export const settledMs: Record<Grain, number> = { minute: 0, hour: 3_600_000, day: 86_400_000, month: 86_400_000 }

/** What of a row matters here besides its calls. */
type LimitedRow = Pick<TallyRow, 'bucket' | 'grain' | 'isDetail' | 'mode' | 'provider'>

/** Calls of a row that limits may have refused and that are not settled in it. */
export function openCalls({ tally }: TallyRow): number {
  return callsWithout(tally, {}) - tally.overLimit
}

/** Details were settled with the longer bucket that they are of. */
function settledIn({ grain, isDetail }: LimitedRow): number {
  return settledMs[isDetail ? (grains[grains.indexOf(grain) + 1] as Grain) : grain]
}

/**
 * How many of the calls of each row would have been refused had every call gone upstream: those beyond what the limits and the quota of the
 * provider allow in a window; `openIn`: how many of a row that can be. Windows are taken to lie with the clock, calls in a window to be refused from the moment on when it is full;
 * limits of bursts and of calls at once are left out. It is the fewest that can have been. What is settled in a row already is not told again.
 */
export function* overLimits<R extends LimitedRow>(
  rows: readonly R[],
  known: FactsInForce,
  openIn: (row: R) => number,
  upToMs = Number.POSITIVE_INFINITY,
): Steps<Map<R, number>> {
  const over = new Map<R, number>()
  const passing = (row: R) => openIn(row) - (over.get(row) ?? 0)
  if (!known.anyLimits) return over
  const sorted = yield* inTimeOrder(yield* filtered(rows, ({ mode }) => mode === 'reuse'))
  for (const itsRows of (yield* groupsOf(sorted, ({ provider }) => provider)).values()) {
    const [first] = itsRows as [R]
    const limits = known.limits(first.provider, itsRows.at(-1)?.bucket ?? first.bucket) ?? []
    for (const { calls, perMs } of [...limits].sort((a, b) => a.perMs - b.perMs)) {
      const windowMs = Math.max(perMs, bucketMs)
      if (windowMs > upToMs) continue
      const open = yield* filtered(itsRows, (row) => windowMs > settledIn(row))
      for (const window of (yield* groupsOf(open, ({ bucket }) => Math.floor(bucket / windowMs))).values()) {
        refuse(window, Math.floor((calls * windowMs) / perMs), over, passing)
        yield
      }
    }
    if (Number.isFinite(upToMs)) continue
    let period: { start: number; end: number } | undefined
    const perPeriod = yield* groupsOf(itsRows, ({ provider, bucket }) => {
      const quota = known.quota(provider, bucket)
      if (!quota) return undefined
      if (!period || bucket >= period.end || bucket < period.start) period = quotaPeriod(quota, bucket)
      return period.start
    })
    for (const window of perPeriod.values()) {
      const quota = known.quota(first.provider, window[0]?.bucket ?? 0)
      if (quota) refuse(window, quota.calls, over, passing)
      yield
    }
  }
  return over
}

/** Has calls of a window refused from the moment on when it is full; those of one moment in proportion. */
function refuse<R extends LimitedRow>(window: readonly R[], allowed: number, over: Map<R, number>, passing: (row: R) => number): void {
  let left = allowed
  for (const moment of allSteps(groupsOf(window, ({ bucket }) => bucket)).values()) {
    const asked = moment.reduce((sum, row) => sum + passing(row), 0)
    if (asked > left) {
      let [toRefuse, before] = [asked - left, asked]
      for (const row of moment) {
        const share = before === 0 ? 0 : Math.round((toRefuse * passing(row)) / before)
        before -= passing(row)
        toRefuse -= share
        if (share > 0) over.set(row, (over.get(row) ?? 0) + share)
      }
    }
    left = Math.max(0, left - asked)
  }
}
