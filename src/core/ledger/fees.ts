import type { PlanOptions } from '../money/plan.js'
import { billingPeriod } from '../money/plan-periods.js'
import type { FactsInForce } from './facts-in-force.js'

/** Fees that are due though nothing is called. */
export interface Fees {
  /** From when they are, milliseconds since 1970-01-01T00:00Z. */
  readonly from: number
  readonly periods: readonly Period[]
}

interface Period {
  readonly plan: PlanOptions
  readonly start: number
  readonly end: number
}

/** Further back than this nobody has called anything, milliseconds. */
const longestMs = 40 * 366 * 86_400_000

/** The fees of a time, from `from` on as far as `since` to `until`: by the plan in force as each period begins, or as it takes over. */
export function feesOf(
  known: FactsInForce,
  provider: string,
  { from = known.since(provider), since, until }: { readonly from?: number; readonly since: number; readonly until: number },
): Fees {
  const periods: Period[] = []
  const begin = Math.max(from, since, until - longestMs)
  const changes = known.changes(provider).filter((change) => change > begin)
  for (let at = begin; at < until; ) {
    const plan = known.plan(provider, at)
    const next = changes.find((change) => change > at) ?? Number.POSITIVE_INFINITY
    if (plan && costsWithoutCalls(plan)) {
      const { start, end } = billingPeriod(plan, at)
      periods.push({ plan, start, end })
      at = Math.min(end, next)
    } else at = next
  }
  return { from, periods }
}

function costsWithoutCalls({ prepaid, baseFee, minimum, changes = [] }: PlanOptions): boolean {
  if (prepaid) return false
  return [{ baseFee, minimum }, ...changes].some((terms) => Number(terms.baseFee ?? 0) > 0 || Number(terms.minimum ?? 0) > 0)
}
